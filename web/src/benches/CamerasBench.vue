<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, photoUrl, type Kind, type Scene } from '@/api/client'
import PhotoPane from '@/components/PhotoPane.vue'
import EmptyLayer from '@/components/EmptyLayer.vue'
import SplitPane from '@/components/SplitPane.vue'
import StripChart from '@/components/StripChart.vue'
import WorldPane from '@/components/WorldPane.vue'
import FoundEachOther from '@/components/FoundEachOther.vue'
import ChoiceRow from '@/components/ChoiceRow.vue'
import LevelStrip from '@/components/LevelStrip.vue'
import MeasureStrip from '@/components/MeasureStrip.vue'
import LensMaps from '@/components/LensMaps.vue'
import PhotoTable from '@/components/PhotoTable.vue'
import BoxStrip from '@/components/BoxStrip.vue'
import PairsPanel from '@/components/PairsPanel.vue'
import PairView from '@/components/PairView.vue'
import ThroughPhoto from '@/components/ThroughPhoto.vue'
import TrackPanel from '@/components/TrackPanel.vue'
import PlacesStrip from '@/components/PlacesStrip.vue'
import PhotoMarks from '@/components/PhotoMarks.vue'
import { useGrowing } from '@/composables/useGrowing'
import { useMeasure } from '@/composables/useMeasure'
import { usePlaces } from '@/composables/usePlaces'
import { cloudUrl, useCompared, useWorldOf } from '@/composables/useWorldOf'
import { useProject } from '@/stores/project'
import { cloudScale, type Box, type CloudMode } from '@/world/build'
import { boxAround } from '@/lib/boxNumbers'
import { choiceLabel } from '@/i18n/say'
import { nearestTie, scaleWords } from '@/lib/ties'
import { moved, type LevelStep } from '@/world/level'
import type { World } from '@/world/World'

const props = defineProps<{ compared: number | null }>()
const { t } = useI18n()
const project = useProject()
const scene = shallowRef<Scene | null>(null)
const mode = ref<CloudMode>('color')
const ties = shallowRef<{ tied: number[][]; untied: number[][] } | null>(null)
const hand = shallowRef<Box | null>(null)
const levelling = ref(false)
const boxing = ref(false)
function changeBox(box: Box) {
  hand.value = box
  world.value?.setBox(box)
}
/** A box about all that was photographed. */
function keepEverything() {
  const cloud = world.value?.cloud
  if (cloud) changeBox(boxAround(cloud.positions))
}
const scaled = computed(() => {
  const from = (project.version('cameras')?.figures as { scale_from?: string })?.scale_from
  return from === 'mat' || from === 'bars' || from === 'height'
})
/** Errors are drawn so many times enlarged; a table or the lenses in place of the chart. */
const ENLARGED = 100
const errors = ref(false)
const BELOW = ['chart', 'table', 'lens', 'pairs', 'track'] as const
const below = ref<(typeof BELOW)[number]>('chart')
/** Two photos whose matches are shown, a point whose track is, and whether the chosen camera is looked through. */
const pair = ref<[number, number] | null>(null)
const point = shallowRef<number[] | null>(null)
const through = ref(false)
const cameraOf = (r: number) => scene.value?.cameras.find((c) => c.row === r) ?? null
const pairShown = computed(() => {
  const [a, b] = (below.value === 'pairs' && pair.value?.map(cameraOf)) || []
  return a && b ? { a, b } : null
})
const belowChoices = computed(() =>
  BELOW.map((value) => ({ value, text: t(`world.below_${value}`), hint: t(`world.below_${value}`) })),
)

const number = computed(() => project.layer('cameras')?.number ?? null)
const row = computed(() => scene.value?.cameras.find((c) => c.photo === project.selected)?.row ?? null)
/** The photo in the frame of the chosen camera. */
const carried = () => project.selected && photoUrl(project.id, 'thumb', project.selected, 280)
const camera = computed(() => scene.value?.cameras.find((c) => c.row === row.value) ?? null)
const MARKS: Record<string, string> = { placed: '●', weak: '◐', loose: '○', implausible: '⊘', apart: '◌' }
const counts = computed(() => {
  const n: Record<string, number> = { placed: 0, weak: 0, implausible: 0, apart: 0, loose: 0 }
  for (const c of scene.value?.cameras ?? []) n[c.state]++
  return Object.entries(n)
    .filter(([k, v]) => v || !['apart', 'implausible'].includes(k))
    .map(([k, v]) => `${MARKS[k]} ${t(`world.${k}`)} ${v}`)
    .join('   ')
})
const caption = computed(() =>
  camera.value
    ? `${camera.value.photo} · ${MARKS[camera.value.state]} ${t(`world.${camera.value.state}`)} · ${camera.value.ties} ${t('photos.ties')}`
    : undefined,
)
const chart = computed(() =>
  (scene.value?.cameras ?? []).map((c) => ({ key: c.photo, value: c.ties, off: !c.center })),
)

const {
  world,
  ready: begin,
  again,
  reframe,
} = useWorldOf(number, async (w, n) => {
  scene.value = await ask(api.GET('/api/v1/projects/{project_id}/layers/cameras/scene', project.path))
  const box = (hand.value ?? scene.value.box) as Box
  w.setBox(box)
  await w.loadCloud(cloudUrl(project.id, 'cameras', n), mode.value)
  w.setGround(Math.max(...box.high.map((h, k) => h - box.low[k])))
  w.setCameras(scene.value.cameras, row.value, carried())
})
useCompared(
  world,
  () => props.compared,
  async (w, n) => {
    const query = { query: { number: n } }
    const other = await ask(
      api.GET('/api/v1/projects/{project_id}/layers/cameras/scene', {
        params: { ...project.path.params, ...query },
      }),
    )
    await w.loadCloud(cloudUrl(project.id, 'cameras', n), mode.value, 2.2, true)
    w.addSecondCameras(other.cameras)
  },
)
function ready(w: World) {
  w.onCamera = (r) => {
    const hit = scene.value?.cameras.find((c) => c.row === r)
    if (hit) project.selected = hit.photo
  }
  w.onBox = (box) => (hand.value = box)
  w.onPoint = (p) => {
    point.value = p.toArray()
    below.value = 'track'
  }
  begin(w)
}
/** What was turned by hand to make the version in use. */
const turned = computed(() => (project.version('cameras')?.settings.level as LevelStep[] | undefined) ?? [])
const centred = computed(() => !!project.version('cameras')?.settings.center)
/** With turns and a place over the origin, told in the frame in which the model was found; none at all by null. */
async function applyLevel(steps: LevelStep[], at?: number[] | null) {
  levelling.value = false
  const center = at && moved(scene.value!.found, at)
  await project.change('cameras', center === undefined ? { level: steps } : { level: steps, center })
  await project.run('cameras')
}
/** Taken as another kind of subject: stood up afresh, in one press. */
const kindSetting = computed(() => project.layer('cameras')?.settings.find((s) => s.name === 'kind'))
const kinds = computed(() =>
  (kindSetting.value?.choices ?? []).map((value) => ({
    value,
    text: choiceLabel(kindSetting.value!, value),
  })),
)
const kind = computed(() => String(project.version('cameras')?.settings.kind ?? 'object'))
async function takeAs(other: string) {
  levelling.value = false
  await project.change('cameras', { kind: other as Kind, level: [], center: null })
  await project.run('cameras')
}
async function applyBox(box: Box | null) {
  await project.change('points', { box: box && { ...box } })
  hand.value = null
  if (!box) await again()
}
const measure = useMeasure(() => (camera.value?.center ? camera.value : null))
/** Groups of photos that nothing ties: which of them is used. */
const groups = computed(() => (project.version('cameras')?.figures as { groups?: number[] })?.groups ?? [])
/** Joining them by places that were picked in photos of both. */
const places = usePlaces(() => camera.value)
const joinable = computed(
  () =>
    groups.value.length > 1 ||
    !!(project.version('cameras')?.settings.places as unknown[] | undefined)?.length,
)
function groupOf(photo: string) {
  const c = scene.value?.cameras.find((c) => c.photo === photo)
  return c?.group ?? null
}
/** One tool at a time lies over the world; pressed again, it goes. */
function takeUp(on: boolean, open: () => void) {
  levelling.value = false
  measure.close()
  places.close()
  if (!on) open()
}
const group = computed({
  get: () => String((project.version('cameras')?.settings.group as number | undefined) ?? 1),
  set: (g) => void useGroup(Number(g)),
})
async function useGroup(number: number) {
  await project.change('cameras', { group: number })
  await project.run('cameras')
}
const groupChoices = computed(() =>
  groups.value.map((photos, k) => ({
    value: String(k + 1),
    text: t('world.group', { n: k + 1, photos }),
    hint: t('world.groupHint'),
  })),
)
const { growing, found } = useGrowing(world, reframe)
watch(mode, (m) => world.value?.setCloudMode(m))
watch(
  row,
  async (r) => {
    if (scene.value) world.value?.setCameras(scene.value.cameras, r, carried())
    ties.value = null
    if (r === null) return
    const answer = await ask(
      api.GET('/api/v1/projects/{project_id}/layers/cameras/ties', {
        params: { path: { project_id: project.id }, query: { row: r } },
      }),
    )
    if (r === row.value) ties.value = answer as { tied: number[][]; untied: number[][] }
  },
  { immediate: true },
)
/** A press on the photo picks the point of the nearest tied feature. */
async function placed(x: number, y: number) {
  if (measure.measuring.value) return void measure.place(x, y)
  if (places.picking.value) return void places.place(x, y)
  const c = camera.value
  const near = ties.value && c && nearestTie(ties.value.tied, x * c.width, y * c.height, c.width / 60)
  if (!near || !c) return
  const where = {
    params: { path: { project_id: project.id }, query: { row: c.row, x: near[0], y: near[1] } },
  }
  const found = await ask(api.GET('/api/v1/projects/{project_id}/layers/cameras/track-of', where))
  point.value = [...found.at]
  below.value = 'track'
}
const MODES: CloudMode[] = ['color', 'height', 'views', 'error', 'sigma']
/** What the colours of the cloud mean. */
const scale = computed(() => {
  const cloud = (number.value, mode.value, scene.value) && world.value?.cloud
  const found = cloud && mode.value !== 'color' ? cloudScale(cloud, mode.value) : null
  return found && scaleWords(mode.value, found.range)
})
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span class="seg"
        ><button v-for="m in MODES" :key="m" :aria-pressed="mode === m" @click="mode = m">
          {{ t(`world.${m}`) }}
        </button></span
      >
      <button v-if="hand" class="plainbtn" @click="applyBox(hand)">{{ t('box.apply') }}</button>
      <button class="plainbtn" :disabled="number === null" @click="applyBox(null)">
        {{ t('box.reset') }}
      </button>
      <button class="plainbtn" :disabled="number === null" :aria-pressed="boxing" @click="boxing = !boxing">
        {{ t('boxStrip.open') }}
      </button>
      <button
        class="plainbtn"
        :disabled="number === null || growing"
        :aria-pressed="levelling"
        @click="takeUp(levelling, () => (levelling = true))"
      >
        {{ t('box.level') }}
      </button>
      <button
        class="plainbtn"
        :disabled="number === null || growing"
        :aria-pressed="measure.measuring.value"
        @click="takeUp(measure.measuring.value, measure.open)"
      >
        {{ t('measure.title') }}
      </button>
      <button
        v-if="joinable"
        class="plainbtn"
        :disabled="growing"
        :aria-pressed="places.picking.value"
        @click="takeUp(places.picking.value, places.open)"
      >
        {{ t('places.title') }}
      </button>
      <ChoiceRow
        v-if="groups.length > 1"
        v-model="group"
        :label="t('world.groups')"
        :choices="groupChoices"
      />
    </div>
    <EmptyLayer v-if="number === null && !growing" layer="cameras" />
    <SplitPane v-else name="cameras" :aspect="project.aspect">
      <template #first
        ><WorldPane
          :parts="['cameras', 'cloud', 'box', 'ground']"
          :legend="[counts, scale].filter(Boolean).join('   ')"
          :comparing="props.compared !== null"
          @ready="ready"
        >
          <FoundEachOther v-if="found?.read.length" :read="found.read" :matched="found.matched" />
          <ThroughPhoto
            v-if="through && world && camera?.center"
            :world="world"
            :camera="camera"
            @close="through = false"
          />
          <LevelStrip
            v-if="levelling && world"
            :world="world"
            :kept="turned"
            :centred="centred"
            :kinds="kinds"
            :kind="kind"
            @apply="applyLevel"
            @kind="takeAs"
            @close="levelling = false"
          />
          <BoxStrip
            v-if="boxing && scene && !levelling && !measure.measuring.value"
            :box="hand ?? (scene.box as unknown as Box)"
            :scaled="scaled"
            @change="changeBox"
            @everything="keepEverything"
            @apply="((boxing = false), hand && applyBox(hand))"
            @close="boxing = false"
          />
          <MeasureStrip v-if="measure.measuring.value" :measure="measure" />
          <PlacesStrip v-if="places.picking.value" :places="places" :group-of="groupOf" /> </WorldPane
      ></template>
      <template #second
        ><PairView v-if="pairShown" :a="pairShown.a" :b="pairShown.b" @close="pair = null" />
        <PhotoPane
          v-else
          :path="project.selected"
          :ties="measure.measuring.value || places.picking.value ? null : ties"
          :caption="caption"
          :enlarged="errors ? ENLARGED : 0"
          @place="placed"
        >
          <PhotoMarks
            v-if="(measure.measuring.value || places.picking.value) && camera"
            :measure="measure.measuring.value ? measure : places"
            :width="camera.width"
            :height="camera.height" /></PhotoPane
      ></template>
    </SplitPane>
    <div v-if="scene" class="bar about">
      <ChoiceRow v-model="below" :label="t('world.belowHint')" :choices="belowChoices" />
      <span class="end">
        <button
          class="plainbtn"
          :disabled="!camera?.center"
          :aria-pressed="through"
          :title="t('through.hint')"
          @click="through = !through"
        >
          {{ t('through.title') }}
        </button>
        <button
          class="plainbtn"
          :aria-pressed="errors"
          :title="t('world.errorsHint')"
          @click="errors = !errors"
        >
          {{ t('world.errors', { n: ENLARGED }) }}
        </button>
      </span>
    </div>
    <PhotoTable v-if="below === 'table' && scene" :cameras="scene.cameras" />
    <LensMaps v-else-if="below === 'lens' && number !== null" :number="number" />
    <PairsPanel
      v-else-if="below === 'pairs' && scene && number !== null"
      :cameras="scene.cameras"
      :number="number"
      @pair="(a, b) => (pair = [a, b])"
    />
    <TrackPanel v-else-if="below === 'track' && number !== null" :at="point" />
    <StripChart
      v-else-if="chart.length"
      :values="chart"
      :title="t('photos.ties')"
      :selected="project.selected"
      :picture="(key) => photoUrl(project.id, 'thumb', key, 280)"
      @pick="project.selected = $event"
    />
  </section>
</template>

<style scoped>
/* about the chosen photo: between it and what is told of all of them */
.about {
  border-top: 1px solid var(--joint);
  border-bottom: 0;
  padding-block: 3px;
  min-height: 34px;
}
.about .end {
  display: flex;
  gap: 8px;
}
</style>
