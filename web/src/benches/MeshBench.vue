<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Scene, type SpotOut } from '@/api/client'
import AtlasPane from '@/components/AtlasPane.vue'
import EmptyLayer from '@/components/EmptyLayer.vue'
import SeenBy from '@/components/SeenBy.vue'
import SplitPane from '@/components/SplitPane.vue'
import ThrownPhoto from '@/components/ThrownPhoto.vue'
import WorldPane from '@/components/WorldPane.vue'
import { useProject } from '@/stores/project'
import { useKeys } from '@/composables/useKeys'
import { useCompared, useWorldOf } from '@/composables/useWorldOf'
import { fixed } from '@/i18n/numbers'
import type { MeshMode } from '@/world/World'

const props = defineProps<{ layer: string; compared: number | null }>()
const { t } = useI18n()
const project = useProject()
const mode = ref<MeshMode>(props.layer === 'texture' ? 'textured' : 'plain')
const number = computed(() => project.layer(props.layer)?.number ?? null)
const url = (n: number) => `/api/v1/projects/${project.id}/layers/${props.layer}/mesh?number=${n}`
const poster = computed(
  () => `/api/v1/projects/${project.id}/layers/${props.layer}/poster?number=${number.value}`,
)
const atlas = computed(() => props.layer === 'texture' && number.value !== null)

/** The spot of the mesh that was pressed, and who sees it. */
const seen = shallowRef<SpotOut | null>(null)
async function look(at: number[]) {
  const [x, y, z] = at
  const params = {
    path: { project_id: project.id, layer: props.layer },
    query: { x, y, z, number: number.value },
  }
  const found = (await ask(
    api.GET('/api/v1/projects/{project_id}/layers/{layer}/seen-by', { params }),
  )) as SpotOut
  seen.value = found
  world.value?.marks.setSpot({ at, normal: found.normal, side: found.side })
}
function forget() {
  seen.value = null
  world.value?.marks.setSpot(null)
}
useKeys(`layers.${props.layer}`, [{ keys: 'Escape', says: 'keys.noSpot', act: forget }])

const { world, ready } = useWorldOf(number, async (w, n) => {
  w.setGround(1)
  forget()
  w.onSpot = (p) => void look(p.toArray())
  await w.setMesh(url(n), mode.value)
})
useCompared(
  world,
  () => props.compared,
  (w, n) => w.setMesh(url(n), mode.value, true),
)
watch(mode, (m) => world.value?.setMeshMode(m))
/** The placed cameras, fetched when a photo is first to be thrown onto the mesh. */
const scene = shallowRef<Scene | null>(null)
const placed = computed(() => scene.value?.cameras.filter((c) => c.center) ?? [])
const thrown = computed(() =>
  mode.value === 'photo' ? (placed.value.find((c) => c.photo === project.selected) ?? null) : null,
)
watch(mode, async () => {
  if (mode.value !== 'photo') return
  scene.value ??= await ask(api.GET('/api/v1/projects/{project_id}/layers/cameras/scene', project.path))
  if (!placed.value.some((c) => c.photo === project.selected) && placed.value.length)
    project.selected = placed.value[0].photo
})
watch([thrown, world], ([c, w]) =>
  w?.throwPhoto(c, c && `/api/v1/projects/${project.id}/layers/cameras/through?row=${c.row}`),
)
/** What the surface rests on, in words and shares. */
function told() {
  const figures = project.version('surface')?.figures
  const share = (x: number | undefined) => fixed(x ?? 0, 1)
  return t('seen.evidence', {
    filled: share(figures?.filled_percent),
    inferred: share(figures?.inferred_percent),
  })
}
const legend = computed(() => {
  if (seen.value) return ''
  if (mode.value === 'evidence') return told()
  if (mode.value !== 'photo') return t('seen.hint')
  return thrown.value ? t('seen.thrown', { photo: thrown.value.photo }) : t('seen.notPlaced')
})
const FORM: MeshMode[] = ['plain', 'wire', 'glass', 'normals', 'sides', 'photo']
const modes = computed<MeshMode[]>(() =>
  props.layer === 'texture' ? ['textured', ...FORM] : [...FORM, 'evidence'],
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
      <button v-if="seen" class="plainbtn" @click="forget">{{ t('seen.close') }}</button>
      <span v-if="compared !== null" class="quiet num"
        >{{ t(`layers.${layer}`) }} {{ number }} | {{ compared }}</span
      >
      <span class="end quiet yields" :title="t('world.hint')">{{ t('world.hint') }}</span>
    </div>
    <EmptyLayer v-if="number === null" :layer="layer" />
    <SplitPane
      v-else
      :key="props.layer"
      :name="props.layer"
      :aspect="1"
      :off="!atlas && !seen && mode !== 'photo'"
    >
      <template #first
        ><WorldPane
          :parts="['mesh', 'ground']"
          :poster="poster"
          :legend="legend"
          :comparing="compared !== null"
          @ready="ready"
      /></template>
      <template #second>
        <SeenBy v-if="seen" :seen="seen" />
        <ThrownPhoto v-else-if="mode === 'photo'" :placed="placed.map((c) => c.photo)" />
        <AtlasPane v-else-if="atlas && number !== null" :number="number" />
      </template>
    </SplitPane>
  </section>
</template>
