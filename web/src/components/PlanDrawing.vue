<script setup lang="ts">
import { computed } from 'vue'
import { shotsOf, type DrawnLap } from '@/lib/planDrawing'

/** A plan as a small drawing: its laps about the stand-in, as seen from a little above; three dotted rings where nothing is planned. */
const props = defineProps<{ laps: DrawnLap[]; shape: string }>()
const shots = computed(() => shotsOf(props.laps))
const SHAPES: Record<string, string> = {
  cylinder: 'M84 112V62a16 5 0 0 1 32 0v50a16 5 0 0 1-32 0z',
  sphere: 'M100 68a22 22 0 1 1 0 44 22 22 0 0 1 0-44z',
  box: 'M84 64l16-6 16 6v46l-16 7-16-7z',
}
const body = computed(() => SHAPES[props.shape] ?? 'M88 116V62q12-14 24 0v54z')
</script>

<template>
  <svg viewBox="0 0 200 140" aria-hidden="true">
    <template v-if="!shots.length">
      <ellipse v-for="k in 3" :key="k" cx="100" :cy="104 - 20 * k" :rx="78 - 16 * k" :ry="19 - 4 * k" />
    </template>
    <circle
      v-for="(s, k) in shots.filter((x) => !x.before)"
      :key="`b${k}`"
      :cx="s.x"
      :cy="s.y"
      r="1.7"
      class="far"
    />
    <path :d="body" />
    <circle v-for="(s, k) in shots.filter((x) => x.before)" :key="`f${k}`" :cx="s.x" :cy="s.y" r="2.2" />
  </svg>
</template>

<style scoped>
ellipse {
  fill: none;
  stroke: var(--ink2);
  stroke-dasharray: 3 6;
  opacity: 0.6;
}
path {
  fill: var(--joint);
}
circle {
  fill: var(--lichen);
}
.far {
  opacity: 0.45;
}
</style>
