<script setup lang="ts">
import { ElMessage } from 'element-plus'
import * as THREE from 'three'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Expected, type Patches, type PlanIn, type PlanOut } from '@/api/client'
import LapTable from '@/components/plan/LapTable.vue'
import PlanCharts from '@/components/plan/PlanCharts.vue'
import PlanFigures from '@/components/plan/PlanFigures.vue'
import PlanFindings from '@/components/plan/PlanFindings.vue'
import PlanForm from '@/components/plan/PlanForm.vue'
import PlanTakes from '@/components/plan/PlanTakes.vue'
import ShootBox from '@/components/plan/ShootBox.vue'
import ThroughView from '@/components/plan/ThroughView.vue'
import SplitPane from '@/components/SplitPane.vue'
import WorldPane from '@/components/WorldPane.vue'
import { useKeys } from '@/composables/useKeys'
import { metres } from '@/lib/format'
import { paint, scaleOf, type PaintMode } from '@/lib/paint'
import {
  draggedPlace,
  inStrips,
  markedPatches,
  standInObject,
  withMoved,
  without,
  type Place,
} from '@/lib/planWorld'
import { useProject } from '@/stores/project'
import type { World } from '@/world/World'
import { fixed } from '@/i18n/numbers'
import { say } from '@/i18n/say'

const { t, locale } = useI18n()
const project = useProject()
const plan = ref<PlanIn | null>(null)
const out = shallowRef<PlanOut | null>(null)
const patches = shallowRef<Patches | null>(null)
const mode = ref<PaintMode>('count')
const expected = shallowRef<Expected[]>([])
const marking = ref(false)
const shot = ref<number | null>(null)
const busy = ref(false)
let world: World | null = null
let framed = false
const MODES: PaintMode[] = ['count', 'gsd', 'widest', 'focus', 'light']

const colors = computed(() => (patches.value ? paint(patches.value, mode.value) : new Uint8Array()))
const legend = computed(() => {
  if (!patches.value) return ''
  if (mode.value === 'focus') return t('plan.focusLegend')
  const { low, high, unit } = scaleOf(patches.value, mode.value)
  const [a, b] = mode.value === 'gsd' ? [high, low] : [low, high]
  const text = (x: number) => `${mode.value === 'gsd' ? fixed(x, 2) : fixed(x, 0)}${unit}`
  return `${t(`plan.paint.${mode.value}`)}: ${text(a)} ▁▃▅▇ ${text(b)}${mode.value === 'count' ? '+' : ''}`
})
const reach = computed(() =>
  plan.value && !inStrips(plan.value.kind) ? Math.hypot(plan.value.width!, plan.value.depth!) / 2 : 0.01,
)
const strips = computed(() => inStrips(plan.value?.kind))
const path = computed(() => `/api/v1/projects/${project.id}/plan`)

onMounted(async () => {
  plan.value = (await ask(api.GET('/api/v1/projects/{project_id}/plan', project.path))) as PlanIn
  // what no longer fits is kept by the server when it is asked about it, before the plan is saved again
  for (const remark of await ask(api.GET('/api/v1/projects/{project_id}/plan/remarks', project.path)))
    ElMessage({ message: say(remark), type: 'warning', duration: 0, showClose: true })
  // to look at a plan is not to have one: it is saved with the first change, or when it is taken along
  const draft = await ask(
    api.PUT('/api/v1/projects/{project_id}/plan', {
      params: { ...project.path.params, query: { keep: false } },
      body: asked(plan.value),
    }),
  )
  if (!out.value) await take(draft, project.planned)
})

/** A changed wish makes other shots: what was left out or added by hand belongs to the plan before. */
async function reshape() {
  if (plan.value) plan.value = { ...plan.value, removed: [], extra: [], moved: [] }
  shot.value = null
  await change()
}
/** An area that is not marked yet is planned as the whole, so that there is something to mark. */
const asked = (p: PlanIn): PlanIn => (p.kind === 'area' && !p.marked?.length ? { ...p, kind: 'object' } : p)
let sending = false
let again = false
/** One change at a time, the last one last: the server keeps what came last. */
async function change() {
  again = true
  if (sending) return
  sending = true
  try {
    while (again && plan.value) {
      again = false
      const made = await ask(
        api.PUT('/api/v1/projects/{project_id}/plan', { ...project.path, body: asked(plan.value) }),
      ).catch(() => null)
      if (made && !again) await take(made)
    }
  } finally {
    sending = false
  }
}
async function take(made: PlanOut, planned = made.total) {
  out.value = made
  project.planned = planned
  if (shot.value !== null && shot.value >= made.total) shot.value = null
  patches.value = await ask(api.GET('/api/v1/projects/{project_id}/plan/patches', project.path))
  expected.value = await ask(api.GET('/api/v1/projects/{project_id}/plan/expected', project.path))
  show()
}
async function mend() {
  busy.value = true
  try {
    const made = await ask(
      api.POST('/api/v1/projects/{project_id}/plan/mend', {
        params: { ...project.path.params, query: { shots: 6 } },
      }),
    )
    plan.value = made.request as PlanIn
    const gain = made.gains.reduce((a, b) => a + b, 0)
    ElMessage({
      message: made.gains.length
        ? t('plan.mended', { n: made.gains.length, gain: fixed(100 * gain, 1) })
        : t('plan.nothingToMend'),
      type: 'success',
    })
    await take(made.plan)
  } finally {
    busy.value = false
  }
}
function leaveOut() {
  if (!plan.value || !out.value || shot.value === null) return
  plan.value = without(plan.value, out.value, shot.value)
  void change()
}
function step(by: 1 | -1) {
  const all = out.value?.total ?? 0
  if (all) shot.value = ((shot.value ?? (by > 0 ? -1 : all)) + by + all) % all
}
useKeys('layers.plan', [
  { keys: 'ArrowRight', says: 'keys.nextShot', act: () => step(1) },
  { keys: 'ArrowLeft', says: 'keys.previousShot', act: () => step(-1) },
  { keys: 'Delete', says: 'keys.leaveOutShot', act: leaveOut },
])
function show() {
  if (!world || !plan.value || !out.value || !patches.value) return
  world.setShape(standInObject(patches.value, plan.value, out.value))
  world.setGround(out.value.distance)
  recolor()
  showCameras()
  if (!framed) world.views.home()
  framed = true
}
function recolor() {
  const mesh = world?.shape
  if (!mesh) return
  const each = new Float32Array(colors.value.length * 3)
  const c = new THREE.Color()
  const marked =
    marking.value && patches.value ? markedPatches(patches.value, plan.value?.marked ?? []) : null
  for (let k = 0; k < colors.value.length / 3; k++) {
    const [r, g, b] = marked?.[k] ? [14, 124, 123] : colors.value.subarray(3 * k, 3 * k + 3)
    c.setRGB(r / 255, g / 255, b / 255, THREE.SRGBColorSpace)
    for (let i = 0; i < 3; i++) c.toArray(each, 9 * k + 3 * i)
  }
  mesh.geometry.setAttribute('color', new THREE.BufferAttribute(each, 3))
  world!.request()
}
function showCameras() {
  world?.setCameras(
    (out.value?.stations ?? []).map((s, k) => ({
      row: k,
      photo: '',
      state: 'planned',
      rotation: s.rotation,
      center: held?.row === k && held.to ? held.to : s.center,
      width: plan.value!.pixels_wide!,
      height: plan.value!.pixels_high!,
      focal: out.value!.focal_px,
      ties: 0,
    })),
    shot.value,
  )
}
watch([colors, marking], recolor)
watch(
  () => plan.value?.kind,
  (kind) => {
    marking.value = kind === 'area' && !plan.value?.marked?.length
    framed = false
  },
)
watch(shot, showCameras)
/** A camera goes along its ring with the pointer; with the brush, what is wanted is marked on the stand-in. */
let held: { row: number; from: Place; to: Place | null } | null = null
function grab(what: 'down' | 'move' | 'up', ray: THREE.Raycaster, row: number | null): boolean {
  if (!plan.value || !out.value) return false
  if (marking.value) return brush(what, ray)
  if (what === 'down') {
    if (row === null || row !== shot.value) return false
    held = { row, from: out.value.stations[row].center as Place, to: null }
    return true
  }
  if (!held) return false
  if (what === 'move') {
    held.to = draggedPlace(held.from, ray.ray, plan.value.kind!)
    showCameras()
    return true
  }
  const { row: moved, to } = held
  held = null
  if (to) {
    plan.value = withMoved(plan.value, out.value, moved, to)
    void change()
  }
  return true
}
function brush(what: 'down' | 'move' | 'up', ray: THREE.Raycaster): boolean {
  const mesh = world?.shape
  if (!mesh || !plan.value) return false
  const hit = ray.intersectObject(mesh, false)[0]
  if (what === 'down' && !hit) return false
  if (what === 'up') {
    void change()
    return true
  }
  const radius = 0.08 * Math.max(plan.value.width!, plan.value.depth!, plan.value.height!)
  const last = plan.value.marked?.at(-1)
  const far = (m: number[]) => hit.point.distanceTo(new THREE.Vector3(m[0], m[1], m[2])) > radius / 2
  if (hit && (plan.value.marked?.length ?? 0) < 200 && (!last || far(last))) {
    const { x, y, z } = hit.point
    plan.value = { ...plan.value, marked: [...(plan.value.marked ?? []), [x, y, z, radius]] }
    recolor()
  }
  return true
}
function unmark() {
  if (plan.value) plan.value = { ...plan.value, marked: [] }
  void reshape()
}
function ready(w: World) {
  world = w
  w.grab = grab
  w.onCamera = (row) => (shot.value = row)
  show()
}
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span class="seg"
        ><button v-for="m in MODES" :key="m" :aria-pressed="mode === m" @click="mode = m">
          {{ t(`plan.paint.${m}`) }}
        </button></span
      >
      <button class="plainbtn" :disabled="busy || !out" @click="mend">{{ t('plan.mend') }}</button>
      <button class="plainbtn" :disabled="shot === null" @click="leaveOut">{{ t('plan.leaveOut') }}</button>
      <button
        v-if="plan?.removed?.length || plan?.extra?.length || plan?.moved?.length"
        class="plainbtn"
        :disabled="busy"
        @click="reshape"
      >
        {{ t('plan.asPlanned') }}
      </button>
      <template v-if="plan?.kind === 'area'">
        <button class="plainbtn" :aria-pressed="marking" @click="marking = !marking">
          {{ t('plan.mark') }}
        </button>
        <button v-if="plan.marked?.length" class="plainbtn" @click="unmark">{{ t('plan.unmark') }}</button>
      </template>
      <details class="end files">
        <summary>{{ t('plan.files') }}</summary>
        <div>
          <a :href="`${path}/mat.pdf?language=${locale}`" target="_blank">{{ t('plan.mat') }}</a>
          <a :href="`${path}/marks.pdf?language=${locale}`" target="_blank">{{ t('plan.marks') }}</a>
          <a :href="`${path}/shots.pdf?language=${locale}`" target="_blank">{{ t('plan.print') }}</a>
          <a :href="`${path}/shots.csv`">{{ t('plan.list') }}</a>
          <a :href="`${path}/cameras.glb`">{{ t('plan.glb') }}</a>
          <a :href="`${path}/plan.json`" download="plan.json">{{ t('plan.file') }}</a>
        </div>
      </details>
    </div>
    <!-- the view through a camera stands over figures and charts: all of it higher than wide -->
    <SplitPane name="plan" :aspect="0.5" :most="0.6">
      <template #first
        ><WorldPane :parts="['cameras', 'mesh', 'ground']" :legend="legend" @ready="ready"
      /></template>
      <template #second>
        <div v-if="out && patches && plan" class="side">
          <ThroughView
            :patches="patches"
            :colors="colors"
            :plan="out"
            :shot="shot"
            :size="[plan.pixels_wide!, plan.pixels_high!]"
          />
          <PlanFigures :plan="out" />
          <PlanCharts :plan="out" :reach="reach" :patches="patches" @look="(at) => world?.views.lookAt(at)" />
        </div>
      </template>
    </SplitPane>
    <Teleport to="#tray-top">
      <div v-if="plan" class="tray num">
        <PlanFindings :findings="out?.findings ?? []" />
        <PlanForm v-model="plan" @change="reshape">
          <lap-table v-if="out && !strips" v-model="plan" :out="out" @change="reshape" />
        </PlanForm>
        <template v-if="out">
          <PlanTakes :expected="expected" />
          <p v-if="out.backdrop" class="backdrop">
            <i :style="{ background: out.backdrop.hex }"></i>
            {{
              t('plan.backdrop', {
                name: t(`plan.cloth.${out.backdrop.name}`),
                far: metres(out.backdrop.distance_m),
              })
            }}
          </p>
          <shoot-box :plan="plan" :out="out" />
        </template>
      </div>
    </Teleport>
  </section>
</template>

<style scoped>
.side {
  display: grid;
  grid-template-rows: minmax(0, 1fr) auto auto;
  min-height: 0;
}
.files {
  position: relative;
}
.files summary {
  cursor: pointer;
  font-weight: 600;
  color: var(--lichen-ink);
}
.files div {
  position: absolute;
  right: 0;
  top: 26px;
  z-index: 5;
  display: grid;
  gap: 6px;
  padding: 10px 16px;
  background: var(--paper);
  border: 1px solid var(--joint);
  border-radius: 6px;
  box-shadow: 0 6px 18px #0002;
  white-space: nowrap;
}
.files a {
  color: var(--lichen-ink);
}
.tray {
  padding: 4px 0 0;
}
.backdrop {
  margin: 4px 14px;
  font-size: 13px;
}
.backdrop i {
  display: inline-block;
  width: 22px;
  height: 12px;
  border: 1px solid var(--joint);
  vertical-align: -1px;
}
</style>
