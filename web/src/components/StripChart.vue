<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref, watchEffect } from 'vue'
import { useTheme } from '@/composables/useTheme'
import { fixed } from '@/i18n/numbers'
import { drag } from '@/lib/drag'
import { digitsOf, ticks } from '@/lib/ticks'

/** A bar for each photo in order, on a canvas: thousands cost no more than a few. */
export interface Bar {
  key: string
  value: number
  off?: boolean
  bad?: boolean
  /** Beyond this, judging remarks on it. */
  limit?: number | null
}
const props = defineProps<{
  values: Bar[]
  title: string
  selected: string | null
  /** Keys that were brushed. */
  picked?: string[]
  /** Address of the picture that is shown while a bar is pointed at. */
  picture?: (key: string) => string
}>()
const emit = defineEmits<{ pick: [key: string]; brush: [keys: string[]] }>()

const HEIGHT = 62
/** Room for what is written along the axis. */
const LEFT = 40
const canvas = ref<HTMLCanvasElement>()
const { width } = useElementSize(canvas)
const { dusk } = useTheme()
const pointed = ref<number | null>(null)
const inside = computed(() => new Set(props.picked ?? []))
const chosen = computed(() => props.values.findIndex((v) => v.key === props.selected))
/** Bars stand on nothing; where a limit is beyond all of them, it still shows. */
const range = computed(() => {
  const all = props.values.flatMap((v) => [v.value, ...(v.limit ? [v.limit] : [])])
  const low = Math.min(0, ...props.values.map((v) => v.value))
  return { low, high: Math.max(low + 1e-9, 0, ...all) * 1.04 }
})
const step = computed(() => Math.max(0, (width.value - LEFT) / Math.max(1, props.values.length)))
const places = computed(() => ticks(range.value.low, range.value.high))
const written = (value: number) =>
  fixed(value, Number.isInteger(value) ? 0 : Math.min(4, digitsOf(places.value) + 1))
const y = (value: number) =>
  HEIGHT - 3 - ((HEIGHT - 8) * (value - range.value.low)) / (range.value.high - range.value.low)

watchEffect(
  () => {
    const c = canvas.value
    const g = c?.getContext('2d')
    if (!c || !g || !width.value) return
    void dusk.value // other colours
    const style = getComputedStyle(c)
    const tone = (name: string) => style.getPropertyValue(name).trim()
    const ratio = window.devicePixelRatio || 1
    c.width = Math.round(width.value * ratio)
    c.height = Math.round(HEIGHT * ratio)
    g.setTransform(ratio, 0, 0, ratio, 0, 0)
    g.font = `10.5px ${style.fontFamily}`
    g.textAlign = 'right'
    g.textBaseline = 'middle'
    const digits = digitsOf(places.value)
    for (const place of places.value) {
      g.fillStyle = tone('--ink2')
      g.fillText(fixed(place, digits), LEFT - 6, Math.min(HEIGHT - 6, Math.max(6, y(place))))
      g.fillStyle = tone('--joint')
      g.fillRect(LEFT, Math.round(y(place)), width.value - LEFT, 1)
    }
    const gap = step.value > 4 ? 1 : 0
    props.values.forEach((v, k) => {
      const x = LEFT + k * step.value
      if (inside.value.has(v.key)) {
        g.fillStyle = tone('--lichen-bg')
        g.fillRect(x, 0, Math.max(1, step.value), HEIGHT)
      }
      const [from, to] = [y(Math.max(0, range.value.low)), y(v.value)]
      const [top, height] = [Math.min(from, to), Math.max(1.5, Math.abs(from - to))]
      g.fillStyle = tone(v.key === props.selected ? '--lichen' : v.bad ? '--ochre' : '--bar')
      if (v.off) {
        g.strokeStyle = tone('--rust')
        g.strokeRect(x + 0.5, top + 0.5, Math.max(1, step.value - gap - 1), height - 1)
      } else g.fillRect(x, top, Math.max(1, step.value - gap), height)
    })
    limits(g, tone('--rust'))
  },
  { flush: 'post' },
)

/** Where judging begins to remark: a step for each photo, as each is compared with its own like. */
function limits(g: CanvasRenderingContext2D, color: string) {
  g.strokeStyle = color
  g.setLineDash([4, 3])
  for (const sign of range.value.low < 0 ? [1, -1] : [1]) {
    g.beginPath()
    props.values.forEach((v, k) => {
      if (!v.limit || sign * v.limit < range.value.low) return
      g.moveTo(LEFT + k * step.value, y(sign * v.limit))
      g.lineTo(LEFT + (k + 1) * step.value, y(sign * v.limit))
    })
    g.stroke()
  }
  g.setLineDash([])
}

/** Number of the bar under a pointer. */
function at(e: PointerEvent): number {
  const x = e.clientX - canvas.value!.getBoundingClientRect().left - LEFT
  return Math.min(props.values.length - 1, Math.max(0, Math.floor(x / step.value)))
}

/** A press picks a photo; drawn along, a brush picks those from where it began to where it is. */
function begin(e: PointerEvent) {
  const first = at(e)
  let drawn = false
  const move = (m: PointerEvent) => {
    const [a, b] = [Math.min(first, at(m)), Math.max(first, at(m))]
    if (a === b && !drawn) return
    drawn = true
    emit('brush', a === b ? [] : props.values.slice(a, b + 1).map((v) => v.key))
  }
  if (props.picked?.length) emit('brush', [])
  drag(e, { move, up: () => !drawn && emit('pick', props.values[first].key) })
}

const STEPS: Record<string, number> = {
  ArrowRight: 1,
  ArrowUp: 1,
  ArrowLeft: -1,
  ArrowDown: -1,
  PageUp: 10,
  PageDown: -10,
}
function key(e: KeyboardEvent) {
  const last = props.values.length - 1
  const to =
    e.key === 'Home' ? 0 : e.key === 'End' ? last : e.key in STEPS ? chosen.value + STEPS[e.key] : null
  if (to === null) return
  e.preventDefault()
  emit('pick', props.values[Math.min(last, Math.max(0, to))].key)
}
const shown = computed(() => (pointed.value === null ? null : (props.values[pointed.value] ?? null)))
</script>

<template>
  <figure class="strip">
    <figcaption>{{ title }}</figcaption>
    <canvas
      ref="canvas"
      class="bars"
      role="slider"
      tabindex="0"
      :aria-label="title"
      :aria-valuemin="1"
      :aria-valuemax="values.length"
      :aria-valuenow="chosen + 1"
      :aria-valuetext="chosen < 0 ? '' : `${values[chosen].key}: ${written(values[chosen].value)}`"
      @pointerdown="begin"
      @pointermove="pointed = at($event)"
      @pointerleave="pointed = null"
      @keydown="key"
    ></canvas>
    <div
      v-if="shown"
      class="tip"
      :style="{ left: `${Math.min(Math.max(LEFT + (pointed! + 0.5) * step, 70), width - 70)}px` }"
    >
      <img v-if="picture" :src="picture(shown.key)" alt="" />
      <span>{{ shown.key }}</span>
      <b class="num">{{ written(shown.value) }}</b>
    </div>
  </figure>
</template>

<style scoped>
.strip {
  --bar: #a8987a;
  position: relative;
  border-top: 1px solid var(--joint);
  background: var(--stone);
  padding: 5px 12px 8px;
}
:root.dark .strip {
  --bar: #7d725e;
}
figcaption {
  font-size: 12px;
  color: var(--ink2);
}
.bars {
  display: block;
  width: 100%;
  height: 62px;
  cursor: pointer;
  touch-action: none;
}
.tip {
  position: absolute;
  bottom: 78px;
  transform: translateX(-50%);
  z-index: 5;
  display: flex;
  flex-direction: column;
  gap: 2px;
  max-width: 180px;
  padding: 5px 7px;
  border: 1px solid var(--joint);
  border-radius: 5px;
  background: var(--paper);
  font-size: 12px;
  pointer-events: none;
  box-shadow: 0 2px 8px #0003;
}
.tip span {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.tip img {
  width: 140px;
  max-height: 120px;
  object-fit: contain;
}
</style>
