<script setup lang="ts">
import { useI18n } from 'vue-i18n'
import type { PlanOut } from '@/api/client'
import { metres } from '@/lib/format'
import { fixed, short } from '@/i18n/numbers'

/** What a plan comes to, in figures. */
defineProps<{ plan: PlanOut }>()
const { t } = useI18n()
const shutter = (s: number) => (s < 0.5 ? `1/${Math.round(1 / s)} s` : `${fixed(s, 1)} s`)
</script>

<template>
  <dl class="figures num">
    <div>
      <dt>{{ t('plan.distance') }}</dt>
      <dd>{{ metres(plan.distance) }}</dd>
    </div>
    <div>
      <dt>{{ t('plan.gsd') }}</dt>
      <dd>{{ short(plan.gsd_mm) }} mm</dd>
    </div>
    <div>
      <dt>{{ t('plan.precision') }}</dt>
      <dd>± {{ short(plan.precision_mm) }} mm</dd>
    </div>
    <div>
      <dt>{{ t('plan.bestF') }}</dt>
      <dd>f/{{ short(plan.best_f) }}</dd>
    </div>
    <div>
      <dt>{{ t('plan.shutter') }}</dt>
      <dd>{{ shutter(plan.shutter_s) }} · {{ fixed(plan.blur_px, 1) }} px</dd>
    </div>
    <div>
      <dt>{{ t('plan.fills') }}</dt>
      <dd>{{ fixed(100 * plan.fills, 0) }} %</dd>
    </div>
    <div>
      <dt>{{ t('plan.evenness') }}</dt>
      <dd>{{ fixed(plan.light_spread_stops, 1) }} EV · {{ fixed(100 * plan.dark, 0) }} %</dd>
    </div>
    <div>
      <dt>{{ t('plan.shares') }}</dt>
      <dd>{{ fixed(100 * plan.along, 0) }} · {{ fixed(100 * plan.across, 0) }} %</dd>
    </div>
    <div>
      <dt>{{ t('plan.baseOf') }}</dt>
      <dd>1 : {{ fixed(1 / Math.max(plan.base_to_distance, 1e-6), 1) }}</dd>
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
