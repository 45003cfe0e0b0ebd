<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Scene } from '@/api/client'
import PhotoPane from '@/components/PhotoPane.vue'
import WorldPane from '@/components/WorldPane.vue'
import { useProject } from '@/stores/project'
import type { CloudMode } from '@/world/build'
import type { World } from '@/world/World'

const { t } = useI18n()
const project = useProject()
const mode = ref<CloudMode>('color')
const scene = shallowRef<Scene | null>(null)
let world: World | null = null
let framed = false
const number = computed(() => project.layer('points')?.number ?? null)
const row = computed(() => scene.value?.cameras.find((c) => c.photo === project.selected)?.row ?? null)
const depth = computed(() =>
  row.value === null ? null : `/api/projects/${project.id}/photos/depth?row=${row.value}&v=${number.value}`,
)

async function load() {
  if (!world || number.value === null) return
  scene.value = await ask(api.GET('/api/projects/{project_id}/layers/cameras/scene', project.path))
  world.setBox(scene.value.box as { low: number[]; high: number[]; turn: number })
  world.setGround(1)
  world.show('cameras', false)
  world.setCameras(scene.value.cameras, row.value)
  const data = await (
    await fetch(`/api/projects/${project.id}/layers/points/cloud?number=${number.value}&budget=2000000`)
  ).arrayBuffer()
  world.setCloud(data, mode.value, 1.8)
  if (!framed) world.home()
  framed = true
}
watch(number, load)
watch(mode, (m) => world?.setCloudMode(m))
watch(row, (r) => scene.value && world?.setCameras(scene.value.cameras, r))
const MODES: CloudMode[] = ['color', 'height', 'views']
const legend = computed(
  () => ({ color: '', height: `${t('world.low')} ▁▃▅▇ ${t('world.high')}`, views: '2 ▁▃▅▇ 12+' })[mode.value],
)
function ready(w: World) {
  world = w
  void load()
}
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span class="seg"
        ><button v-for="m in MODES" :key="m" :aria-pressed="mode === m" @click="mode = m">
          {{ t(`world.${m}`) }}
        </button></span
      >
      <span class="end quiet">{{ t('world.hint') }}</span>
    </div>
    <div v-if="number === null" class="emptynote">{{ t('world.empty') }}</div>
    <div v-else class="split">
      <WorldPane :parts="['cloud', 'box', 'ground']" :legend="legend" @ready="ready" />
      <div class="two">
        <PhotoPane :path="project.selected" />
        <PhotoPane :path="project.selected" :overlay="depth" :caption="t('photos.depth')" />
      </div>
    </div>
  </section>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-rows: 1fr 1fr;
  gap: 1px;
  background: var(--joint);
}
.two > * {
  min-height: 0;
}
</style>
