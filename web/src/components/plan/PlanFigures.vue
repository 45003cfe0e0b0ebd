<script setup lang="ts">
import { useI18n } from 'vue-i18n'
import type { PlanOut } from '@/api/client'
import { metres } from '@/lib/format'

/** What a plan comes to, in figures. */
defineProps<{ plan: PlanOut }>()
const { t } = useI18n()
const shutter = (s: number) => (s < 0.5 ? `1/${Math.round(1 / s)} s` : `${s.toFixed(1)} s`)
</script>

<template>
  <dl class="figures num">
    <div>
      <dt>{{ t('plan.distance') }}</dt>
      <dd>{{ metres(plan.distance) }}</dd>
    </div>
    <div>
      <dt>{{ t('plan.gsd') }}</dt>
      <dd>{{ plan.gsd_mm.toPrecision(2) }} mm</dd>
    </div>
    <div>
      <dt>{{ t('plan.precision') }}</dt>
      <dd>± {{ plan.precision_mm.toPrecision(2) }} mm</dd>
    </div>
    <div>
      <dt>{{ t('plan.bestF') }}</dt>
      <dd>f/{{ plan.best_f.toPrecision(2) }}</dd>
    </div>
    <div>
      <dt>{{ t('plan.shutter') }}</dt>
      <dd>{{ shutter(plan.shutter_s) }} · {{ plan.blur_px.toFixed(1) }} px</dd>
    </div>
    <div>
      <dt>{{ t('plan.fills') }}</dt>
      <dd>{{ (100 * plan.fills).toFixed(0) }} %</dd>
    </div>
    <div>
      <dt>{{ t('plan.evenness') }}</dt>
      <dd>{{ plan.light_spread_stops.toFixed(1) }} EV · {{ (100 * plan.dark).toFixed(0) }} %</dd>
    </div>
    <div>
      <dt>{{ t('plan.shares') }}</dt>
      <dd>{{ (100 * plan.along).toFixed(0) }} · {{ (100 * plan.across).toFixed(0) }} %</dd>
    </div>
    <div>
      <dt>{{ t('plan.baseOf') }}</dt>
      <dd>1 : {{ (1 / Math.max(plan.base_to_distance, 1e-6)).toFixed(1) }}</dd>
    </div>
    <div>
      <dt>{{ t('plan.lapsBy') }}</dt>
      <dd>{{ plan.laps.length }} × {{ plan.per_ring }}</dd>
    </div>
  </dl>
</template>

<style scoped>
.figures {
  margin: 0;
  display: grid;
  grid-template-columns: 1fr 1fr;
  border-top: 1px solid var(--joint);
  background: var(--joint);
  gap: 1px;
}
.figures div {
  background: var(--paper);
  padding: 2px 12px;
}
dt {
  font-size: 11.5px;
  color: var(--ink2);
}
dd {
  margin: 0;
  font-weight: 600;
}
</style>
