<script setup lang="ts">
import { ElInputNumber } from 'element-plus'
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { PlanIn, PlanOut } from '@/api/client'

/** Laps one by one: elevation, photos, distance. What is touched here stands until it is worked out anew. */
const plan = defineModel<PlanIn>({ required: true })
const props = defineProps<{ out: PlanOut }>()
const emit = defineEmits<{ change: [] }>()
const { t } = useI18n()
type Key = 'rise_deg' | 'count' | 'distance_m'
const COLUMNS: [Key, number, number, number][] = [
  ['rise_deg', -80, 85, 0],
  ['count', 1, 200, 0],
  ['distance_m', 0.01, 10000, 2],
]

/** What was edited counts at once; what was not comes from the plan as worked out. */
const rows = computed(() => {
  const edited = plan.value.laps ?? []
  if (!edited.length) return props.out.laps
  return edited.map((l) => ({ ...l, distance_m: l.distance_m || props.out.distance }))
})
const now = () => rows.value.map((l) => ({ ...l }))
function put(laps: PlanIn['laps']) {
  plan.value = { ...plan.value, laps }
  emit('change')
}
function set(k: number, key: Key, value: number | undefined) {
  if (value === undefined) return
  put(now().map((l, i) => (i === k ? { ...l, [key]: value } : l)))
}
function add() {
  const laps = now()
  const last = laps[laps.length - 1]
  put([...laps, { ...last, rise_deg: Math.min(80, last.rise_deg + 15) }])
}
</script>

<template>
  <table class="laps num">
    <thead>
      <tr>
        <td></td>
        <th v-for="[key] in COLUMNS" :key="key">{{ t(`plan.${key}`) }}</th>
        <td></td>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(lap, k) in rows" :key="k">
        <td>{{ k + 1 }}</td>
        <td v-for="[key, low, high, digits] in COLUMNS" :key="key">
          <el-input-number
            :model-value="Number(lap[key].toFixed(digits))"
            :min="low"
            :max="high"
            :controls="false"
            size="small"
            style="width: 58px"
            :aria-label="t('plan.lapOf', { n: k + 1, what: t(`plan.${key}`) })"
            @change="(v: number | undefined) => set(k, key, v)"
          />
        </td>
        <td>
          <button
            v-if="rows.length > 1"
            class="link"
            :aria-label="t('plan.removeLap', { n: k + 1 })"
            @click="put(now().filter((_, i) => i !== k))"
          >
            ×
          </button>
        </td>
      </tr>
    </tbody>
  </table>
  <p class="under">
    <button class="link" @click="add">{{ t('plan.addLap') }}</button>
    <button v-if="plan.laps?.length" class="link" @click="put([])">{{ t('plan.lapsAnew') }}</button>
  </p>
</template>

<style scoped>
.laps {
  margin: 2px 14px;
  width: calc(100% - 28px);
  border-collapse: collapse;
  font-size: 12.5px;
}
th {
  font-weight: 400;
  color: var(--ink2);
  text-align: left;
  font-size: 11.5px;
}
td {
  padding: 1px 2px 1px 0;
}
.under {
  margin: 0 14px;
  display: flex;
  gap: 14px;
}
</style>
