<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Video } from '@/api/client'
import { stretches } from '@/lib/video'

/** Sharpness along a video, its laps, what is blurred or shaken, and the frames that would be taken. */
const props = defineProps<{ video: Video; ticks: number[] }>()
const { t } = useI18n()
const x = (seconds: number) => (100 * seconds) / Math.max(props.video.seconds, 1e-6)
const curve = computed(() => {
  const top = Math.max(...props.video.sharp, 1e-6)
  return props.video.times.map((s, k) => `${x(s)},${40 - (38 * props.video.sharp[k]) / top}`).join(' ')
})
const spoilt = computed(() => stretches(props.video.times, props.video.fit ?? []))
</script>

<template>
  <svg
    class="curve"
    viewBox="0 0 100 40"
    preserveAspectRatio="none"
    role="img"
    :aria-label="t('video.sharp')"
  >
    <rect
      v-for="(l, k) in video.laps"
      :key="`l${k}`"
      :x="x(l[0])"
      y="0"
      :width="x(l[1] - l[0])"
      height="40"
      class="lap"
    />
    <g v-for="(s, k) in spoilt" :key="`s${k}`">
      <title>{{ t('video.spoilt') }}</title>
      <rect :x="x(s[0])" y="0" :width="Math.max(0.3, x(s[1] - s[0]))" height="40" class="spoilt" />
    </g>
    <polyline :points="curve" vector-effect="non-scaling-stroke" />
    <line
      v-for="s in ticks"
      :key="s"
      :x1="x(s)"
      :x2="x(s)"
      y1="30"
      y2="40"
      vector-effect="non-scaling-stroke"
      class="tick"
    />
  </svg>
</template>

<style scoped>
.curve {
  width: 100%;
  height: 44px;
  display: block;
  margin: 3px 0;
}
.curve polyline {
  fill: none;
  stroke: var(--ink2);
  stroke-width: 1;
}
.lap {
  fill: var(--lichen-bg);
}
.spoilt {
  fill: color-mix(in srgb, var(--rust) 18%, transparent);
}
.tick {
  stroke: var(--ochre);
  stroke-width: 1.5;
}
</style>
