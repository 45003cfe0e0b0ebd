<script setup lang="ts">
import type { Measure } from '@/composables/useMeasure'

/** Marks in the photo, and where the active one must lie: on a line after one mark, in a ring after two. */
const props = defineProps<{ measure: Pick<Measure, 'here' | 'help'>; width: number; height: number }>()
const { here, help } = props.measure
</script>

<template>
  <svg class="marks" :viewBox="`-0.5 -0.5 ${width} ${height}`">
    <polyline v-if="help?.line.length" :points="help.line.map((p) => p.join(',')).join(' ')" class="line" />
    <circle v-if="help?.at" :cx="help.at[0]" :cy="help.at[1]" :r="width / 90" class="ring" />
    <g v-for="m in here" :key="m.name" :class="{ on: m.on }" class="mark">
      <path
        :d="`M${m.at[0] - width / 60} ${m.at[1]}h${width / 75}m${width / 150} 0h${width / 75}M${m.at[0]} ${m.at[1] - width / 60}v${width / 75}m0 ${width / 150}v${width / 75}`"
      />
      <text :x="m.at[0] + width / 110" :y="m.at[1] - width / 110" :font-size="width / 45">{{ m.name }}</text>
    </g>
  </svg>
</template>

<style scoped>
.marks {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  pointer-events: none;
}
.line,
.ring {
  fill: none;
  stroke: #ffd76a;
  stroke-width: 1.5;
  vector-effect: non-scaling-stroke;
}
.mark path {
  fill: none;
  stroke: #fff;
  stroke-width: 1.5;
  vector-effect: non-scaling-stroke;
}
.mark text {
  fill: #fff;
  paint-order: stroke;
  stroke: #0008;
  stroke-width: 3;
}
.mark.on path {
  stroke: #6ff0e0;
}
.mark.on text {
  fill: #6ff0e0;
}
</style>
