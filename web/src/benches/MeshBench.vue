<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import SplitPane from '@/components/SplitPane.vue'
import WorldPane from '@/components/WorldPane.vue'
import { useProject } from '@/stores/project'
import { useCompared, useWorldOf } from '@/composables/useWorldOf'
import type { MeshMode } from '@/world/World'

const props = defineProps<{ layer: string; compared: number | null }>()
const { t } = useI18n()
const project = useProject()
const mode = ref<MeshMode>(props.layer === 'texture' ? 'textured' : 'plain')
const number = computed(() => project.layer(props.layer)?.number ?? null)
const url = (n: number) => `/api/projects/${project.id}/layers/${props.layer}/mesh?number=${n}`
const poster = computed(
  () => `/api/projects/${project.id}/layers/${props.layer}/poster?number=${number.value}`,
)
const atlas = computed(() =>
  props.layer === 'texture' && number.value
    ? `/api/projects/${project.id}/layers/texture/atlas?number=${number.value}`
    : null,
)

const { world, ready } = useWorldOf(number, async (w, n) => {
  w.setGround(1)
  await w.setMesh(url(n), mode.value)
})
useCompared(
  world,
  () => props.compared,
  (w, n) => w.setMesh(url(n), mode.value, true),
)
watch(mode, (m) => world.value?.setMeshMode(m))
const modes = computed<MeshMode[]>(() =>
  props.layer === 'texture' ? ['textured', 'plain', 'wire', 'glass'] : ['plain', 'wire', 'glass'],
)
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span class="seg"
        ><button v-for="m in modes" :key="m" :aria-pressed="mode === m" @click="mode = m">
          {{ t(`world.${m}`) }}
        </button></span
      >
      <span v-if="compared !== null" class="quiet num"
        >{{ t(`layers.${layer}`) }} {{ number }} | {{ compared }}</span
      >
      <span class="end quiet">{{ t('world.hint') }}</span>
    </div>
    <div v-if="number === null" class="emptynote">{{ t('world.empty') }}</div>
    <SplitPane v-else-if="atlas" name="texture" :aspect="1">
      <template #first
        ><WorldPane
          :parts="['mesh', 'ground']"
          :poster="poster"
          :comparing="compared !== null"
          @ready="ready"
      /></template>
      <template #second>
        <div class="atlas"><img :src="atlas" :alt="t('world.atlas')" /></div>
      </template>
    </SplitPane>
    <WorldPane
      v-else
      class="grow"
      :parts="['mesh', 'ground']"
      :poster="poster"
      :comparing="compared !== null"
      @ready="ready"
    />
  </section>
</template>

<style scoped>
.grow {
  flex: 1;
}
.atlas {
  background: var(--surround);
  display: grid;
  place-items: center;
  padding: 12px;
}
.atlas img {
  max-width: 100%;
  max-height: 100%;
  min-height: 0;
}
</style>
