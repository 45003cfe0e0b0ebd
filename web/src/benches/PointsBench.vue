<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, photoUrl, type Scene } from '@/api/client'
import ClearStrip from '@/components/ClearStrip.vue'
import PhotoPane from '@/components/PhotoPane.vue'
import EmptyLayer from '@/components/EmptyLayer.vue'
import SplitPane from '@/components/SplitPane.vue'
import WorldPane from '@/components/WorldPane.vue'
import { useProject } from '@/stores/project'
import { cloudUrl, useCompared, useWorldOf } from '@/composables/useWorldOf'
import { watchThrottled } from '@vueuse/core'
import { say } from '@/i18n/say'
import { metres } from '@/lib/format'
import { Latest } from '@/lib/latest'
import { scaleWords } from '@/lib/ties'
import { cloudScale, type Box, type CloudMode } from '@/world/build'

const props = defineProps<{ compared: number | null }>()
const { t } = useI18n()
const project = useProject()
const mode = ref<CloudMode>('color')
const scene = shallowRef<Scene | null>(null)
const number = computed(() => project.layer('points')?.number ?? null)
const row = computed(() => scene.value?.cameras.find((c) => c.photo === project.selected)?.row ?? null)
/** The photo in the frame of the chosen camera. */
const carried = () => project.selected && photoUrl(project.id, 'thumb', project.selected, 280)
const depth = computed(() =>
  row.value === null
    ? null
    : `/api/v1/projects/${project.id}/photos/depth?row=${row.value}&v=${number.value}`,
)
/** Depths at the ends of the map's colours. */
const range = ref<{ near?: number | null; far?: number | null } | null>(null)
watch(
  [row, number],
  async ([r, n]) => {
    range.value = null
    if (r === null || n === null) return
    const query = { row: r }
    try {
      const got = await ask(
        api.GET('/api/v1/projects/{project_id}/photos/depth-range', {
          params: { ...project.path.params, query },
        }),
        true,
      )
      if (row.value === r) range.value = got
    } catch {
      range.value = null // there is no map of this photo: the pane says so
    }
  },
  { immediate: true },
)
const zoom = ref(1)
const shift = ref([0, 0])
const cursor = ref<number[] | null>(null)
/** What the depth map says where the cursor is. */
const readOut = ref<string | null>(null)
const latest = new Latest()
const length = (v: number) => (project.metric ? metres(v) : v.toPrecision(3))
watchThrottled(
  [cursor, row, number],
  async () => {
    latest.giveUp()
    if (!cursor.value || row.value === null || number.value === null) return (readOut.value = null)
    const [x, y] = cursor.value
    const query = { row: row.value, x, y }
    const where = { params: { ...project.path.params, query } }
    try {
      const at = await latest.ask((signal) =>
        ask(api.GET('/api/v1/projects/{project_id}/photos/depth-at', { ...where, signal })),
      )
      const { depth: far, gsd, around } = at
      const about = around == null ? '' : t('photos.depthAround', { far: length(around) })
      readOut.value =
        far != null && gsd != null
          ? t('photos.depthAt', { far: length(far), gsd: length(gsd) })
          : at.why
            ? [say(at.why), about].filter(Boolean).join(' ')
            : null
    } catch {
      readOut.value = null // another place was asked for meanwhile, or there is no map of this photo
    }
  },
  { throttle: 80, trailing: true },
)

const BUDGET = 2_000_000
/** More of them at most where one looks. */
const NEAR = 1_500_000
const clearing = ref(false)
const strip = ref<InstanceType<typeof ClearStrip>>()
/** Counts clouds that were loaded: what they hold is asked for again. */
const filled = ref(0)
const { world, ready } = useWorldOf(number, async (w, n) => {
  scene.value = await ask(api.GET('/api/v1/projects/{project_id}/layers/cameras/scene', project.path))
  w.setBox(scene.value.box as unknown as Box)
  w.setGround(1)
  w.show('cameras', false)
  w.setCameras(scene.value.cameras, row.value, carried())
  await w.loadCloud(cloudUrl(project.id, 'points', n, BUDGET), mode.value, 1.8, false, BUDGET)
  filled.value += 1
  strip.value?.loaded()
})
/** Whether the cloud holds more than is drawn of it at once. */
const more = computed(() => {
  const all = project.version('points')?.figures.points ?? 0
  return !!filled.value && all > (world.value?.cloud?.views.length ?? 0)
})
// while points are cleared away only those are drawn of which it is known whether they are chosen
watch([more, clearing, number, filled], () => {
  if (!world.value) return
  world.value.nearer.source =
    more.value && !clearing.value
      ? (matrix, height, signal) =>
          ask(
            api.POST('/api/v1/projects/{project_id}/layers/points/nearby', {
              params: { ...project.path.params, query: { number: number.value } },
              body: { matrix, height, budget: NEAR },
              parseAs: 'arrayBuffer',
              signal,
            }),
            true,
          ).then((data) => data as unknown as ArrayBuffer)
      : null
})
useCompared(
  world,
  () => props.compared,
  async (w, n) => w.loadCloud(cloudUrl(project.id, 'points', n, BUDGET), mode.value, 1.8, true, BUDGET),
)
watch(mode, (m) => world.value?.setCloudMode(m))
watch(row, (r) => scene.value && world.value?.setCameras(scene.value.cameras, r, carried()))
/** Expected errors are stated by newer versions of Points. */
const stated = computed(
  () => !!((number.value, filled.value) && world.value?.cloud?.sigma?.some(Number.isFinite)),
)
/** Newer versions say which photo gave each point. */
const given = computed(
  () => !!((number.value, filled.value) && world.value?.cloud?.photos?.some((p) => p >= 0)),
)
const modes = computed<CloudMode[]>(() => [
  'color',
  'height',
  'normal',
  'views',
  'gsd',
  ...(given.value ? (['photo'] as const) : []),
  ...(stated.value ? (['sigma'] as const) : []),
])
/** What the colours mean. */
const legend = computed(() => {
  if (mode.value === 'color') return ''
  if (mode.value === 'normal') return t('world.facing')
  if (mode.value === 'photo') return t('world.byPhoto')
  const cloud = (number.value, filled.value) && world.value?.cloud
  const found = cloud && cloudScale(cloud, mode.value)
  return found ? scaleWords(mode.value, found.range, project.metric) : ''
})
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span class="seg"
        ><button v-for="m in modes" :key="m" :aria-pressed="mode === m" @click="mode = m">
          {{ t(`world.${m}`) }}
        </button></span
      >
      <button class="plainbtn" :aria-pressed="clearing" :disabled="!filled" @click="clearing = !clearing">
        {{ t('clear.open') }}
      </button>
      <span class="end quiet yields" :title="t('world.hint')">{{ t('world.hint') }}</span>
    </div>
    <ClearStrip
      v-if="clearing && world && number !== null"
      ref="strip"
      :world="world"
      :version="number"
      :budget="BUDGET"
      :stated="stated"
      @close="clearing = false"
    />
    <EmptyLayer v-if="number === null" layer="points" />
    <SplitPane v-else name="points" :aspect="project.aspect" :count="2">
      <template #first
        ><WorldPane
          :parts="['cloud', 'box', 'ground']"
          :legend="legend"
          :comparing="props.compared !== null"
          @ready="ready"
      /></template>
      <template #second>
        <PhotoPane
          v-model:zoom="zoom"
          v-model:shift="shift"
          v-model:cursor="cursor"
          crossed
          :path="project.selected"
        />
        <PhotoPane
          v-model:zoom="zoom"
          v-model:shift="shift"
          v-model:cursor="cursor"
          crossed
          :path="project.selected"
          :overlay="depth"
          :caption="readOut ?? t('photos.depth')"
        >
          <template #key>
            <span v-if="range?.near != null && range.far != null" class="depths num">
              {{ length(range.near) }} <i></i> {{ length(range.far) }}
              <span><b></b> {{ t('photos.depthGuess') }}</span>
            </span>
          </template>
        </PhotoPane>
      </template>
    </SplitPane>
  </section>
</template>

<style scoped>
.depths {
  display: flex;
  align-items: center;
  gap: 6px;
}
.depths i {
  width: 72px;
  height: 9px;
  background: linear-gradient(90deg, #fdea45, #a69d75, #575c6d, #00224e);
}
.depths b {
  display: inline-block;
  width: 13px;
  height: 9px;
  background: repeating-linear-gradient(135deg, #ebe4d4 0 1px, #6b6656 1px 4px);
}
</style>
