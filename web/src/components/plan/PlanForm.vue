<script setup lang="ts">
import { ElInputNumber, ElOption, ElSelect, ElSwitch, ElTooltip } from 'element-plus'
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'
import type { PlanIn } from '@/api/client'

/** What is asked of a plan: subject, camera, wish, reach. */
const plan = defineModel<PlanIn>({ required: true })
const emit = defineEmits<{ change: [] }>()
const { t } = useI18n()
const more = ref(false)
type Row = [keyof PlanIn, number, number, number, string]
const GROUPS: [string, boolean, Row[]][] = [
  [
    'subject',
    false,
    [
      ['width', 0.001, 1000, 0.01, 'm'],
      ['depth', 0.001, 1000, 0.01, 'm'],
      ['height', 0.001, 1000, 0.01, 'm'],
      ['detail_mm', 0.001, 1000, 0.1, 'mm'],
    ],
  ],
  [
    'camera',
    false,
    [
      ['pixels_wide', 64, 40000, 100, 'px'],
      ['pixels_high', 64, 40000, 100, 'px'],
      ['sensor_mm', 0.5, 200, 0.1, 'mm'],
      ['focal_mm', 0.5, 3000, 1, 'mm'],
      ['f_number', 0.5, 128, 1, ''],
    ],
  ],
  [
    'way',
    false,
    [
      ['rings', 0, 8, 1, ''],
      ['overlap', 0.3, 0.95, 0.05, ''],
    ],
  ],
  [
    'reach',
    true,
    [
      ['across', 0.2, 0.95, 0.05, ''],
      ['step_deg', 3, 30, 1, '°'],
      ['lowest_m', 0, 1000, 0.05, 'm'],
      ['highest_m', 0.01, 1000, 0.05, 'm'],
      ['from_deg', -360, 360, 5, '°'],
      ['to_deg', -360, 360, 5, '°'],
      ['least_m', 0, 1000, 0.05, 'm'],
      ['greatest_m', 0.01, 10000, 0.05, 'm'],
    ],
  ],
]
const CHOICES: [keyof PlanIn, string[]][] = [
  ['kind', ['object', 'front', 'wall']],
  ['shape', ['box', 'cylinder', 'sphere', 'figure']],
  ['skin', ['matt', 'satin', 'shiny', 'transparent', 'plain', 'hairy', 'living']],
]
const FLAGS: (keyof PlanIn)[] = ['holes', 'recesses', 'underside', 'turnable']
</script>

<template>
  <div class="form">
    <template v-for="[group, folded, rows] in GROUPS" :key="group">
      <template v-if="!folded || more">
        <h3>{{ t(`plan.${group}`) }}</h3>
        <template v-if="group === 'subject'">
          <div v-for="[k, values] in CHOICES" :key="k" class="row">
            <span>{{ t(`plan.${k}`) }}</span>
            <el-select
              v-model="plan[k] as string"
              size="small"
              style="width: 120px"
              :aria-label="t(`plan.${k}`)"
              @change="emit('change')"
            >
              <el-option v-for="v in values" :key="v" :value="v" :label="t(`plan.${v}`)" />
            </el-select>
          </div>
        </template>
        <template v-if="group === 'reach'">
          <div class="row">
            <span>{{ t('plan.wayOf') }}</span>
            <el-select
              v-model="plan.way"
              size="small"
              style="width: 120px"
              :aria-label="t('plan.wayOf')"
              @change="emit('change')"
            >
              <el-option v-for="v in ['walk', 'turntable']" :key="v" :value="v" :label="t(`plan.${v}`)" />
            </el-select>
          </div>
          <div v-for="k in FLAGS" :key="k" class="row">
            <label :for="`p-${k}`">{{ t(`plan.${k}`) }}</label>
            <el-switch
              :id="`p-${k}`"
              v-model="plan[k] as boolean"
              size="small"
              :aria-label="t(`plan.${k}`)"
              @change="emit('change')"
            />
          </div>
        </template>
        <div v-for="[k, low, high, step, unit] in rows" :key="k" class="row">
          <el-tooltip :content="t(`planHint.${k}`)" placement="left" :show-after="400"
            ><label :for="`p-${k}`">{{ t(`plan.${k}`) }}</label></el-tooltip
          >
          <span
            ><el-input-number
              :id="`p-${k}`"
              v-model="plan[k] as number"
              :min="low"
              :max="high"
              :step="step"
              :controls="false"
              size="small"
              style="width: 80px"
              @change="emit('change')"
            />
            <i>{{ unit }}</i></span
          >
        </div>
      </template>
    </template>
    <button class="link" @click="more = !more">{{ t(more ? 'plan.lessReach' : 'plan.moreReach') }}</button>
  </div>
</template>

<style scoped>
h3 {
  font-size: 13px;
  padding: 6px 14px 0;
}
.row {
  display: flex;
  justify-content: space-between;
  align-items: center;
  padding: 1px 14px;
  min-height: 26px;
}
.row i {
  font-style: normal;
  color: var(--ink2);
  display: inline-block;
  width: 24px;
  font-size: 12px;
}
.link {
  border: 0;
  background: none;
  color: var(--lichen-ink);
  font-weight: 600;
  cursor: pointer;
  padding: 3px 14px;
}
</style>
