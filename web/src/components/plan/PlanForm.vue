<script setup lang="ts">
import { ElInputNumber, ElOption, ElSelect, ElSwitch, ElTooltip } from 'element-plus'
import { useLocalStorage } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { type PlanIn, type Version } from '@/api/client'
import CameraFinder from '@/components/plan/CameraFinder.vue'
import LightForm from '@/components/plan/LightForm.vue'
import ObstacleForm from '@/components/plan/ObstacleForm.vue'
import { inStrips } from '@/lib/planWorld'
import { sendFiles } from '@/lib/send'
import { useProject } from '@/stores/project'
import { ElMessage } from 'element-plus'

/** What is asked of a plan: subject, camera, way, light, reach. */
const plan = defineModel<PlanIn>({ required: true })
const emit = defineEmits<{ change: [] }>()
const { t } = useI18n()
const project = useProject()
const file = ref<HTMLInputElement>()
type Key = keyof PlanIn
type Row =
  | { key: Key; low: number; high: number; step: number; unit: string; times?: number }
  | { key: Key; choices: readonly string[] }
  | { key: Key; flag: true }
const number = (key: Key, low: number, high: number, step: number, unit: string): Row => ({
  key,
  low,
  high,
  step,
  unit,
})
/** A share, which is asked for in per cent. */
const percent = (key: Key, low: number, high: number): Row => ({
  key,
  low,
  high,
  step: 5,
  unit: '%',
  times: 100,
})
const choice = (key: Key, ...choices: string[]): Row => ({ key, choices })
const flag = (key: Key): Row => ({ key, flag: true })
const GROUPS: [string, Row[]][] = [
  [
    'subject',
    [
      choice('kind', 'object', 'front', 'area', 'wall', 'ground', 'corner', 'room', 'flown'),
      choice('shape', 'box', 'cylinder', 'sphere', 'figure', 'mesh'),
      choice('skin', 'matt', 'satin', 'shiny', 'transparent', 'plain', 'hairy', 'living'),
      number('width', 0.001, 1000, 0.01, 'm'),
      number('depth', 0.001, 1000, 0.01, 'm'),
      number('height', 0.001, 1000, 0.01, 'm'),
      number('detail_mm', 0.001, 1000, 0.1, 'mm'),
    ],
  ],
  [
    'camera',
    [
      number('pixels_wide', 64, 40000, 100, 'px'),
      number('pixels_high', 64, 40000, 100, 'px'),
      number('sensor_mm', 0.5, 200, 0.1, 'mm'),
      number('focal_mm', 0.5, 3000, 1, 'mm'),
      number('f_number', 0.5, 128, 1, ''),
      number('iso', 10, 1000000, 100, ''),
      choice('hold', 'hand', 'tripod', 'table'),
      number('table_deg_s', 0, 360, 1, '°/s'),
    ],
  ],
  [
    'way',
    [
      choice('way', 'walk', 'turntable'),
      number('rings', 0, 8, 1, ''),
      percent('overlap', 30, 95),
      percent('across', 20, 95),
      choice('by', 'frame', 'detail'),
      choice('order', 'laps', 'columns'),
      number('start_deg', -360, 360, 15, '°'),
      flag('transitions'),
      number('establishing', 0, 48, 1, ''),
      number('close_ups', 0, 100, 1, ''),
    ],
  ],
  ['light', []],
  [
    'reach',
    [
      number('lowest_m', 0, 1000, 0.05, 'm'),
      number('highest_m', 0.01, 1000, 0.05, 'm'),
      number('least_m', 0, 1000, 0.05, 'm'),
      number('greatest_m', 0.01, 10000, 0.05, 'm'),
      number('from_deg', -360, 360, 5, '°'),
      number('to_deg', -360, 360, 5, '°'),
      number('step_deg', 3, 30, 1, '°'),
    ],
  ],
  ['nature', [flag('holes'), flag('recesses'), flag('underside'), flag('turnable')]],
]
const open = useLocalStorage<string[]>('plan-open', ['subject', 'camera', 'way'])
const strips = computed(() => inStrips(plan.value.kind))
const surfaces = computed<Version[]>(() => project.layer('surface')?.versions ?? [])

/** Rows that mean something for what is planned. */
function shown(row: Row): boolean {
  const k = row.key
  if (
    strips.value &&
    ['shape', 'by', 'order', 'start_deg', 'transitions', 'establishing', 'close_ups'].includes(k)
  )
    return false
  if (plan.value.shape === 'mesh' && !strips.value && ['width', 'depth', 'height'].includes(k)) return false
  return !(k === 'table_deg_s' && plan.value.hold !== 'table')
}
/** What a row is called: the way of shooting would be named like the group it stands in. */
const nameOf = (row: Row) => (row.key === 'way' ? 'wayOf' : row.key)
/** Sizes that a kind of place begins with: width, depth, height in m, detail in mm. */
const USUAL: Record<string, [number, number, number, number]> = {
  object: [0.34, 0.21, 0.62, 1],
  wall: [4, 0.2, 2.5, 2],
  ground: [4, 1.5, 0.1, 2],
  corner: [2.9, 2.3, 1.7, 5],
  room: [5, 4, 2.6, 5],
  flown: [12, 9, 8, 20],
}
const family = (kind: string | undefined) => (kind && kind in USUAL ? kind : 'object')
function choose(row: Row, value: string) {
  let next: PlanIn = { ...plan.value, [row.key]: value }
  if (row.key === 'kind' && family(plan.value.kind) !== family(value)) {
    const [width, depth, height, detail_mm] = USUAL[family(value)]
    next = { ...next, width, depth, height, detail_mm, laps: [] }
  }
  plan.value = next
  emit('change')
}
function type(key: Key, value: number | undefined, times = 1) {
  if (value === undefined) return
  plan.value = { ...plan.value, [key]: value / times }
  emit('change')
}
function toggle(group: string) {
  open.value = open.value.includes(group) ? open.value.filter((g) => g !== group) : [...open.value, group]
}
async function bring(e: Event) {
  const chosen = (e.target as HTMLInputElement).files?.[0]
  if (!chosen) return
  let notes: string[]
  try {
    notes = await sendFiles<string[]>(`/api/v1/projects/${project.id}/plan/mesh`, 'file', [chosen])
  } catch (error) {
    ElMessage({ message: (error as Error).message, type: 'error', duration: 8000, showClose: true })
    return
  } finally {
    ;(e.target as HTMLInputElement).value = ''
  }
  for (const note of notes) ElMessage({ message: note, type: 'warning', duration: 8000 })
  plan.value = { ...plan.value, shape: 'mesh', mesh: 'file' }
  emit('change')
}
</script>

<template>
  <div class="form">
    <template v-for="[group, rows] in GROUPS" :key="group">
      <h2>
        <button class="fold" :aria-expanded="open.includes(group)" @click="toggle(group)">
          <span aria-hidden="true">{{ open.includes(group) ? '–' : '+' }}</span> {{ t(`plan.${group}`) }}
        </button>
      </h2>
      <template v-if="open.includes(group)">
        <camera-finder v-if="group === 'camera'" v-model="plan" @change="emit('change')" />
        <template v-for="row in rows" :key="row.key">
          <div v-if="shown(row)" class="row">
            <el-tooltip
              :content="t(`planHint.${nameOf(row)}`)"
              :disabled="!t(`planHint.${nameOf(row)}`)"
              placement="left"
              :show-after="400"
              ><label :for="`p-${row.key}`">{{ t(`plan.${nameOf(row)}`) }}</label></el-tooltip
            >
            <el-select
              v-if="'choices' in row"
              :model-value="plan[row.key] as string"
              size="small"
              style="width: 128px"
              :aria-label="t(`plan.${nameOf(row)}`)"
              @change="(v: string) => choose(row, v)"
            >
              <el-option v-for="v in row.choices" :key="v" :value="v" :label="t(`plan.${v}`)" />
            </el-select>
            <el-switch
              v-else-if="'flag' in row"
              :id="`p-${row.key}`"
              v-model="plan[row.key] as boolean"
              size="small"
              :aria-label="t(`plan.${nameOf(row)}`)"
              @change="emit('change')"
            />
            <span v-else
              ><el-input-number
                :id="`p-${row.key}`"
                :model-value="Math.round((plan[row.key] as number) * (row.times ?? 1) * 1e6) / 1e6"
                :min="row.low"
                :max="row.high"
                :step="row.step"
                :controls="false"
                size="small"
                style="width: 80px"
                @change="(v: number | undefined) => type(row.key, v, row.times)"
              />
              <i>{{ row.unit }}</i></span
            >
          </div>
        </template>
        <template v-if="group === 'subject' && plan.shape === 'mesh' && !strips">
          <div class="row">
            <span>{{ t('plan.mesh') }}</span>
            <span class="end">
              <el-select
                v-if="surfaces.length"
                v-model="plan.mesh"
                size="small"
                style="width: 96px"
                :aria-label="t('plan.mesh')"
                @change="emit('change')"
              >
                <el-option value="file" :label="t('plan.meshFile')" />
                <el-option
                  v-for="v in surfaces"
                  :key="v.number"
                  :value="`surface ${v.number}`"
                  :label="`${t('layers.surface')} ${v.number}`"
                />
              </el-select>
              <button class="link" @click="file?.click()">{{ t('plan.bringMesh') }}</button>
            </span>
            <input ref="file" type="file" accept=".ply,.stl,.obj,.off,.glb" hidden @change="bring" />
          </div>
        </template>
        <slot v-if="group === 'way'"></slot>
        <LightForm v-if="group === 'light'" v-model="plan" @change="emit('change')" />
        <ObstacleForm v-if="group === 'reach'" v-model="plan" @change="emit('change')" />
      </template>
    </template>
  </div>
</template>

<style scoped>
h2 {
  padding: 5px 10px 0;
  margin: 0;
}
h2 span {
  display: inline-block;
  width: 10px;
  color: var(--ink2);
}
.row {
  padding: 1px 14px;
}
.end {
  display: flex;
  gap: 6px;
  align-items: center;
}
</style>
