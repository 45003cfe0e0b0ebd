<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import ChoiceRow from '@/components/ChoiceRow.vue'
import KeptBack from '@/components/KeptBack.vue'
import { useProject } from '@/stores/project'

/** The texture flat: as it is, or under what no photo saw, which photo each part is from, how stretched it is; or photos that were kept back. */
const props = defineProps<{ number: number }>()
const { t, locale } = useI18n()
const project = useProject()
type Shown = 'plain' | 'guessed' | 'source' | 'stretch' | 'held'
const shown = ref<Shown>('plain')
const base = computed(() => `/api/v1/projects/${project.id}/layers/texture`)
const atlas = computed(() => `${base.value}/atlas?number=${props.number}`)
const over = computed(() =>
  shown.value === 'plain' || shown.value === 'held'
    ? ''
    : `${base.value}/atlas-map/${shown.value}?number=${props.number}`,
)
/** A map that this version did not write down. */
const unknown = ref(false)
watch([shown, () => props.number], () => (unknown.value = false))

const figures = computed(() => project.version('texture')?.figures)
const choices = computed(() =>
  (['plain', 'guessed', 'source', 'stretch', 'held'] as const).map((value) => ({
    value,
    text: t(`atlas.${value}`),
    hint: t(`atlas.${value}Hint`),
  })),
)
const told = computed(() => {
  const f = figures.value
  const say = (x: number, digits = 2) => x.toLocaleString(locale.value, { maximumFractionDigits: digits })
  if (unknown.value) return t('atlas.unknown')
  if (shown.value === 'guessed') return t('atlas.guessedTold', { percent: say(f?.unseen_percent ?? 0) })
  if (shown.value === 'source')
    return [
      f?.seam_visibility && t('atlas.sourceTold', { seams: say(f.seam_visibility) }),
      f?.misfit_px != null && t('atlas.liesTold', { px: say(f.misfit_px), n: f.photos_moved ?? 0 }),
    ]
      .filter(Boolean)
      .join(' ')
  if (shown.value === 'plain' && f?.contradicted_percent)
    return t('atlas.plainTold', { percent: say(f.contradicted_percent, 1) })
  return ''
})
</script>

<template>
  <div class="flat">
    <div class="choices"><ChoiceRow v-model="shown" :label="t('world.atlas')" :choices="choices" /></div>
    <KeptBack v-if="shown === 'held'" :number="number" :held="figures?.held_out ?? []" />
    <div v-else class="atlas">
      <img :src="atlas" :alt="t('world.atlas')" :class="{ dim: over && !unknown && shown !== 'guessed' }" />
      <img
        v-if="over && !unknown"
        :key="over"
        :src="over"
        :alt="t(`atlas.${shown}Hint`)"
        @error="unknown = true"
      />
    </div>
    <p v-if="told || shown === 'stretch'" class="quiet told" role="status">
      {{ told }}
      <span v-if="shown === 'stretch' && !unknown" class="scale">
        <span class="num">1</span><span class="ramp"></span><span class="num">{{ t('atlas.twice') }}</span>
      </span>
    </p>
  </div>
</template>

<style scoped>
.flat {
  display: grid;
  grid-template: auto minmax(0, 1fr) auto / minmax(0, 1fr);
  min-height: 0;
  min-width: 0;
}
.choices {
  padding: 6px 8px;
  border-bottom: 1px solid var(--joint);
  overflow-x: auto;
}
.choices :deep(button) {
  padding: 3px 7px;
  white-space: nowrap;
}
.atlas {
  background: var(--surround);
  display: grid;
  place-items: center;
  padding: 12px;
  min-height: 0;
}
.atlas > * {
  grid-area: 1 / 1;
  max-width: 100%;
  max-height: 100%;
  min-height: 0;
}
.dim {
  visibility: hidden;
}
.told {
  margin: 0;
  padding: 6px 12px;
  border-top: 1px solid var(--joint);
  display: flex;
  gap: 12px;
}
.scale {
  display: inline-flex;
  align-items: center;
  gap: 8px;
}
.ramp {
  width: 160px;
  height: 10px;
  border: 1px solid var(--joint);
  background: linear-gradient(to right, rgb(226 239 226), rgb(122 190 176), rgb(36 124 148), rgb(60 52 110));
}
</style>
