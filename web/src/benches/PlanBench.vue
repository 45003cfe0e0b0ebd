<script setup lang="ts">
import { ElMessage, ElOption, ElSelect } from 'element-plus'
import * as THREE from 'three'
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Patches, type PlanIn, type PlanOut } from '@/api/client'
import PlanCharts from '@/components/plan/PlanCharts.vue'
import PlanForm from '@/components/plan/PlanForm.vue'
import ThroughView from '@/components/plan/ThroughView.vue'
import WorldPane from '@/components/WorldPane.vue'
import { metres } from '@/composables/format'
import { paint, scaleOf, type PaintMode } from '@/composables/paint'
import { useProject } from '@/stores/project'
import type { World } from '@/world/World'

const { t } = useI18n()
const project = useProject()
const plan = ref<PlanIn | null>(null)
const out = shallowRef<PlanOut | null>(null)
const patches = shallowRef<Patches | null>(null)
const mode = ref<PaintMode>('count')
const kind = ref<'milestone' | 'finial'>('milestone')
const shot = ref<number | null>(null)
const busy = ref(false)
let world: World | null = null
let framed = false
const MODES: PaintMode[] = ['count', 'gsd', 'widest']

const colors = computed(() => (patches.value ? paint(patches.value, mode.value) : new Uint8Array()))
const legend = computed(() => {
  if (!patches.value) return ''
  const { low, high, unit } = scaleOf(patches.value, mode.value)
  const [a, b] = mode.value === 'gsd' ? [high, low] : [low, high]
  const text = (x: number) => `${mode.value === 'gsd' ? x.toFixed(2) : x.toFixed(0)}${unit}`
  return `${t(`plan.${mode.value}`)}: ${text(a)} ▁▃▅▇ ${text(b)}${mode.value === 'count' ? '+' : ''}`
})
const reach = computed(() =>
  plan.value && plan.value.kind !== 'wall' ? Math.hypot(plan.value.width!, plan.value.depth!) / 2 : 0.01,
)
const path = computed(() => `/api/projects/${project.id}/plan`)

onMounted(async () => {
  window.addEventListener('keydown', keys)
  plan.value = (await ask(api.GET('/api/projects/{project_id}/plan', project.path))) as PlanIn
  await change()
})
onBeforeUnmount(() => window.removeEventListener('keydown', keys))

/** A changed wish makes other shots: what was left out or added by hand belongs to the plan before. */
async function reshape() {
  if (plan.value) plan.value = { ...plan.value, removed: [], extra: [] }
  shot.value = null
  await change()
}
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
        api.PUT('/api/projects/{project_id}/plan', { ...project.path, body: plan.value }),
      ).catch(() => null)
      if (made && !again) await take(made)
    }
  } finally {
    sending = false
  }
}
async function take(made: PlanOut) {
  out.value = made
  project.planned = made.total
  if (shot.value !== null && shot.value >= made.total) shot.value = null
  patches.value = await ask(api.GET('/api/projects/{project_id}/plan/patches', project.path))
  show()
}
async function mend() {
  busy.value = true
  try {
    const made = await ask(
      api.POST('/api/projects/{project_id}/plan/mend', {
        params: { ...project.path.params, query: { shots: 6 } },
      }),
    )
    plan.value = made.request as PlanIn
    const gain = made.gains.reduce((a, b) => a + b, 0)
    ElMessage({
      message: made.gains.length
        ? t('plan.mended', { n: made.gains.length, gain: (100 * gain).toFixed(1) })
        : t('plan.nothingToMend'),
      type: 'success',
    })
    await take(made.plan)
  } finally {
    busy.value = false
  }
}
function leaveOut() {
  const station = shot.value === null ? null : out.value?.stations[shot.value]
  if (!plan.value || !station) return
  if (station.number >= 0) plan.value = { ...plan.value, removed: [...plan.value.removed!, station.number] }
  else {
    const [x, y, z] = station.center
    const extra = plan.value.extra!.filter((e) => Math.hypot(e[0] - x, e[1] - y, e[2] - z) > 1e-6)
    plan.value = { ...plan.value, extra }
  }
  void change()
}
function keys(e: KeyboardEvent) {
  if ((e.target as HTMLElement).closest('input, textarea, [role=dialog]')) return
  const all = out.value?.total ?? 0
  if (e.key === 'Delete') leaveOut()
  else if (e.key === 'ArrowRight' && all) shot.value = ((shot.value ?? -1) + 1) % all
  else if (e.key === 'ArrowLeft' && all) shot.value = ((shot.value ?? all) - 1 + all) % all
}
function show() {
  if (!world || !plan.value || !out.value || !patches.value) return
  const geometry = new THREE.BufferGeometry()
  geometry.setAttribute('position', new THREE.Float32BufferAttribute(patches.value.corners, 3))
  world.setShape(
    new THREE.Mesh(
      geometry,
      new THREE.MeshBasicMaterial({
        vertexColors: true,
        side: plan.value.kind === 'wall' ? THREE.DoubleSide : THREE.FrontSide,
      }),
    ),
  )
  world.setGround(out.value.distance)
  recolor()
  showCameras()
  if (!framed) world.home()
  framed = true
}
function recolor() {
  const mesh = world?.shape
  if (!mesh) return
  const each = new Float32Array(colors.value.length * 3)
  const c = new THREE.Color()
  for (let k = 0; k < colors.value.length / 3; k++) {
    const [r, g, b] = colors.value.subarray(3 * k, 3 * k + 3)
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
      center: s.center,
      width: plan.value!.pixels_wide!,
      height: plan.value!.pixels_high!,
      focal: out.value!.focal_px,
      ties: 0,
    })),
    shot.value,
  )
}
watch(colors, recolor)
watch(shot, showCameras)
async function shoot() {
  if (!plan.value) return
  await ask(
    api.POST('/api/projects/{project_id}/plan/shoot', {
      ...project.path,
      body: { scene: kind.value, seed: 1, plan: plan.value },
    }),
  )
}
function ready(w: World) {
  world = w
  w.onCamera = (row) => (shot.value = row)
  show()
}
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span class="seg"
        ><button v-for="m in MODES" :key="m" :aria-pressed="mode === m" @click="mode = m">
          {{ t(`plan.${m}`) }}
        </button></span
      >
      <button class="plainbtn" :disabled="busy || !out" @click="mend">{{ t('plan.mend') }}</button>
      <button class="plainbtn" :disabled="shot === null" @click="leaveOut">{{ t('plan.leaveOut') }}</button>
      <button
        v-if="plan?.removed?.length || plan?.extra?.length"
        class="plainbtn"
        :disabled="busy"
        @click="reshape"
      >
        {{ t('plan.asPlanned') }}
      </button>
      <span class="end files">
        <a :href="`${path}/mat.pdf`" target="_blank">{{ t('plan.mat') }}</a>
        <a :href="`${path}/shots.pdf`" target="_blank">{{ t('plan.print') }}</a>
        <a :href="`${path}/shots.csv`">{{ t('plan.list') }}</a>
        <a :href="`${path}/plan.json`" download="plan.json">{{ t('plan.file') }}</a>
      </span>
    </div>
    <div class="split">
      <WorldPane :parts="['cameras', 'mesh', 'ground']" :legend="legend" @ready="ready" />
      <div v-if="out && patches && plan" class="side">
        <ThroughView
          :patches="patches"
          :colors="colors"
          :plan="out"
          :shot="shot"
          :size="[plan.pixels_wide!, plan.pixels_high!]"
        />
        <PlanCharts :plan="out" :reach="reach" />
      </div>
    </div>
    <Teleport to="#tray-top">
      <div v-if="plan" class="tray num">
        <PlanForm v-model="plan" @change="reshape" />
        <dl v-if="out" class="figures">
          <div>
            <dt>{{ t('plan.distance') }}</dt>
            <dd>{{ metres(out.distance) }}</dd>
          </div>
          <div>
            <dt>{{ t('plan.gsd') }}</dt>
            <dd>{{ out.gsd_mm.toPrecision(2) }} mm</dd>
          </div>
          <div>
            <dt>{{ t('plan.precision') }}</dt>
            <dd>± {{ out.precision_mm.toPrecision(2) }} mm</dd>
          </div>
          <div>
            <dt>{{ t('plan.byHand') }}</dt>
            <dd>1/{{ Math.round(1 / out.longest_by_hand_s) }} s</dd>
          </div>
          <div>
            <dt>{{ t('plan.shares') }}</dt>
            <dd>{{ (100 * out.along).toFixed(0) }} · {{ (100 * out.across).toFixed(0) }} %</dd>
          </div>
          <div>
            <dt>{{ t('plan.laps') }}</dt>
            <dd>{{ out.elevations.length }} × {{ out.per_ring }}</dd>
          </div>
        </dl>
        <div class="row">
          <span>{{ t('plan.scene') }}</span>
          <el-select v-model="kind" size="small" style="width: 150px" :aria-label="t('plan.scene')">
            <el-option v-for="s in ['milestone', 'finial']" :key="s" :value="s" :label="t(`plan.${s}`)" />
          </el-select>
        </div>
        <button class="go" @click="shoot">
          <b>{{ t('plan.shoot') }}</b><span v-if="out">{{
            t('plan.shots', { n: out.total, size: `${Math.round(out.storage_mb)} MB` })
          }}</span>
        </button>
        <div v-for="f in out?.findings ?? []" :key="f" class="card">{{ f }}</div>
      </div>
    </Teleport>
  </section>
</template>

<style scoped>
.side {
  display: grid;
  grid-template-rows: minmax(0, 1fr) auto;
  min-height: 0;
}
.files {
  display: flex;
  gap: 14px;
  font-weight: 600;
}
.files a {
  color: var(--lichen-ink);
}
.tray {
  padding: 4px 0 14px;
}
.figures {
  margin: 6px 14px;
  display: grid;
  grid-template-columns: 1fr 1fr;
  border: 1px solid var(--joint);
  border-radius: 6px;
  overflow: hidden;
  background: var(--joint);
  gap: 1px;
}
.figures div {
  background: var(--paper);
  padding: 3px 9px;
}
dt {
  font-size: 11.5px;
  color: var(--ink2);
}
dd {
  margin: 0;
  font-weight: 600;
}
.row {
  display: flex;
  justify-content: space-between;
  align-items: center;
  padding: 2px 14px;
  min-height: 28px;
}
.go {
  margin: 8px 14px;
  width: calc(100% - 28px);
  padding: 8px 12px;
  border-radius: 6px;
  border: 0;
  background: var(--ochre);
  color: var(--on-ochre);
  text-align: left;
  cursor: pointer;
}
.go b,
.go span {
  display: block;
}
.go span {
  font-size: 12px;
}
.card {
  margin: 6px 12px;
  padding: 8px 11px;
  background: var(--stone);
  border-radius: 6px;
  border-left: 3px solid var(--ochre);
  font-size: 13px;
}
</style>
