<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import type { HeldOut } from '@/api/client'
import ChoiceRow from '@/components/ChoiceRow.vue'
import { fixed } from '@/i18n/numbers'
import { useProject } from '@/stores/project'

/** Photos that gave no colour beside the model drawn from where they were taken: what the texture is worth. */
const props = defineProps<{ number: number; held: HeldOut[] }>()
const { t } = useI18n()
const project = useProject()
/** How many are kept back when it is tried from here. */
const SOME = 4
const row = ref<number | null>(null)
watch(
  () => props.held,
  (held) => {
    if (!held.some((h) => h.row === row.value)) row.value = held[0]?.row ?? null
  },
  { immediate: true },
)
const shows = ref<'photo' | 'model' | 'off'>('model')
const choices = computed(() =>
  (['photo', 'model', 'off'] as const).map((value) => ({
    value,
    text: t(`held.${value}`),
    hint: t(`held.${value}Hint`),
  })),
)
const picture = computed(
  () =>
    `/api/v1/projects/${project.id}/layers/texture/held-out?row=${row.value}&shows=${shows.value}&number=${props.number}`,
)
async function keepSome() {
  await project.change('texture', { kept_back: SOME })
  await project.run('texture')
}
</script>

<template>
  <div v-if="!held.length" class="emptynote">
    <div class="inner">
      <p>{{ t('held.what') }}</p>
      <button class="go" @click="keepSome">{{ t('held.keepSome', { n: SOME }) }}</button>
    </div>
  </div>
  <div v-else class="held">
    <div class="list" role="listbox" :aria-label="t('atlas.held')">
      <button
        v-for="h in held"
        :key="h.row"
        class="one num"
        role="option"
        :aria-selected="h.row === row"
        @click="row = h.row ?? null"
      >
        <b>{{ h.photo }}</b>
        <span>{{ t('held.figures', { psnr: fixed(h.psnr_db ?? 0, 1), ssim: fixed(h.ssim ?? 0, 3) }) }}</span>
      </button>
    </div>
    <div class="bar"><ChoiceRow v-model="shows" :label="t('held.shows')" :choices="choices" /></div>
    <div class="picture"><img v-if="row !== null" :src="picture" :alt="t(`held.${shows}Hint`)" /></div>
    <p class="quiet">{{ t('held.later') }}</p>
  </div>
</template>

<style scoped>
.held {
  display: grid;
  grid-template: auto auto minmax(0, 1fr) auto / minmax(0, 1fr);
  min-height: 0;
}
.list {
  display: flex;
  gap: 6px;
  padding: 8px 12px;
  overflow-x: auto;
}
.one {
  display: grid;
  text-align: left;
  gap: 2px;
  padding: 5px 10px;
  border: 1px solid var(--joint);
  border-radius: 5px;
  background: var(--paper);
  cursor: pointer;
  white-space: nowrap;
}
.one[aria-selected='true'] {
  border-color: var(--lichen);
  background: var(--lichen-bg);
}
.bar {
  padding: 0 12px 8px;
}
.picture {
  background: var(--surround);
  display: grid;
  place-items: center;
  min-height: 0;
}
.picture img {
  max-width: 100%;
  max-height: 100%;
  min-height: 0;
}
.held p {
  margin: 0;
  padding: 6px 12px;
  border-top: 1px solid var(--joint);
}
.inner {
  max-width: 46ch;
  display: grid;
  gap: 10px;
  justify-items: center;
}
.inner p {
  margin: 0;
}
.go {
  padding: 8px 18px;
}
</style>
