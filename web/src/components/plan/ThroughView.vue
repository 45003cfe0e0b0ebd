<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref, watchEffect } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Patches, PlanOut } from '@/api/client'
import { project } from '@/lib/paint'
import { fixed } from '@/i18n/numbers'

/** What a planned camera sees of the stand-in; what it will not have in focus is drawn pale. */
const props = defineProps<{
  patches: Patches
  colors: Uint8Array
  plan: PlanOut
  shot: number | null
  size: [number, number]
}>()
const { t } = useI18n()
const canvas = ref<HTMLCanvasElement>()
const pane = ref<HTMLElement>()
const room = useElementSize(pane)
const station = computed(() => (props.shot === null ? null : (props.plan.stations[props.shot] ?? null)))
const caption = computed(() => {
  const s = station.value
  if (!s || props.shot === null) return ''
  const tilt = (Math.asin(Math.max(-1, Math.min(1, -s.rotation[2][2]))) * 180) / Math.PI
  const down = tilt >= 0 ? t('plan.down', { n: fixed(tilt, 0) }) : t('plan.up', { n: fixed(-tilt, 0) })
  return t('plan.shot', { n: props.shot + 1, lap: s.ring + 1, height: fixed(s.center[2], 2), tilt: down })
})

watchEffect(() => {
  const c = canvas.value
  const s = station.value
  const scale = Math.min(room.width.value / props.size[0], room.height.value / props.size[1])
  if (!c || !(scale > 0)) return
  const ratio = window.devicePixelRatio
  c.width = Math.round(props.size[0] * scale * ratio)
  c.height = Math.round(props.size[1] * scale * ratio)
  c.style.width = `${props.size[0] * scale}px`
  const g = c.getContext('2d')
  if (!g || !s) return
  g.fillStyle = '#d9d0bd'
  g.fillRect(0, 0, c.width, c.height)
  const seen = project(props.patches, s, props.plan.focal_px * scale * ratio, [c.width, c.height])
  for (const { patch, depth, at } of seen) {
    const [r, gr, b] = [0, 1, 2].map((k) => props.colors[3 * patch + k])
    const sharp = depth >= props.plan.near && depth <= props.plan.far
    const mix = (x: number) => Math.round(sharp ? x : 0.35 * x + 0.65 * 224)
    g.fillStyle = g.strokeStyle = `rgb(${mix(r)} ${mix(gr)} ${mix(b)})`
    g.beginPath()
    g.moveTo(at[0], at[1])
    g.lineTo(at[2], at[3])
    g.lineTo(at[4], at[5])
    g.closePath()
    g.fill()
    g.stroke()
  }
})
</script>

<template>
  <div ref="pane" class="through">
    <canvas v-if="station" ref="canvas" :aria-label="caption"></canvas>
    <p v-else class="emptynote">{{ t('plan.pick') }}</p>
    <span v-if="station" class="cap num">{{ caption }}</span>
  </div>
</template>

<style scoped>
.through {
  position: relative;
  background: var(--surround);
  display: grid;
  place-items: center;
  min-height: 0;
  overflow: hidden;
}
.cap {
  position: absolute;
  left: 10px;
  top: 9px;
  color: #fff;
  font-size: 12.5px;
  background: #000a;
  border-radius: 4px;
  padding: 2px 8px;
}
.emptynote {
  color: var(--ink2);
}
</style>
