<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

/** Photos in their order round a circle, and a line between those that found each other: grows while they are matched. */
const props = defineProps<{ read: number[]; matched: number[][] }>()
const { t } = useI18n()
const R = 88
const count = computed(() => Math.max(1, 1 + Math.max(0, ...props.read)))
const at = (n: number) => {
  const a = (2 * Math.PI * n) / count.value - Math.PI / 2
  return [R * Math.cos(a), R * Math.sin(a)]
}
const most = computed(() => Math.max(1, ...props.matched.map((m) => m[2])))
const lines = computed(() =>
  props.matched.map(([i, j, n]) => {
    const [a, b] = [at(i), at(j)]
    // towards the middle, so that lines of neighbours do not lie on each other
    const pull = 0.35
    return {
      key: `${i} ${j}`,
      d: `M${a[0]} ${a[1]}Q${(a[0] + b[0]) * pull} ${(a[1] + b[1]) * pull} ${b[0]} ${b[1]}`,
      strength: 0.15 + 0.85 * Math.sqrt(n / most.value),
    }
  }),
)
const dot = computed(() => Math.min(2.6, Math.max(0.5, 160 / count.value)))
</script>

<template>
  <figure class="found">
    <svg
      viewBox="-100 -100 200 200"
      role="img"
      :aria-label="t('world.found', { pairs: matched.length, n: read.length })"
    >
      <path v-for="l in lines" :key="l.key" :d="l.d" :opacity="l.strength" />
      <circle v-for="n in read" :key="n" :cx="at(n)[0]" :cy="at(n)[1]" :r="dot" />
    </svg>
    <figcaption>{{ t('world.found', { pairs: matched.length, n: read.length }) }}</figcaption>
  </figure>
</template>

<style scoped>
.found {
  position: absolute;
  inset: 0;
  display: grid;
  grid-template-rows: minmax(0, 1fr) auto;
  place-items: center;
  padding: 14px;
  pointer-events: none;
}
svg {
  width: 100%;
  height: 100%;
}
path {
  fill: none;
  stroke: var(--lichen);
  stroke-width: 0.6;
}
circle {
  fill: var(--ink);
}
figcaption {
  color: var(--ink2);
  padding-bottom: 34px;
}
</style>
