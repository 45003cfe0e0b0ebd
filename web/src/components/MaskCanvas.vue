<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import type { MaskEdit } from '@/api/client'
import { useCrosshair } from '@/composables/useCrosshair'
import { drag } from '@/lib/drag'
import { editOf, thinned, type MaskPurpose, type MaskTool } from '@/lib/maskTools'

/** What is drawn over a photo: an outline by clicks, a lasso or a brush stroke, in shares of its sides. */
const props = defineProps<{
  tool: MaskTool
  purpose: MaskPurpose
  /** Radius of the brush as a share of the photo's width. */
  radius: number
  soft: boolean
  path: string
  aspect: number
}>()
const emit = defineEmits<{ edit: [edit: MaskEdit] }>()
const { t } = useI18n()
const host = ref<SVGSVGElement>()
const points = ref<[number, number][]>([])
const hover = ref<[number, number] | null>(null)
/** Whether what was begun by keys goes on with every move of the cross. */
const pen = ref(false)
function clear() {
  points.value = []
  pen.value = false
}
watch(() => [props.path, props.tool], clear)
const { cross, press, hide } = useCrosshair({
  aspect: () => props.aspect,
  moved: (at) => pen.value && (points.value = [...points.value, at]),
  set: (at) => {
    if (props.tool === 'outline') corner(at, false)
    else if (pen.value) finish(false)
    else {
      points.value = [at]
      pen.value = true
    }
  },
})

/** Drawn in a frame whose width is 1000. */
const high = computed(() => 1000 / props.aspect)
const written = (list: [number, number][]) => list.map(([x, y]) => `${x * 1000},${y * high.value}`).join(' ')
const tip = computed(() => cross.value ?? hover.value)
const shown = computed(() =>
  props.tool === 'outline' && tip.value && points.value.length ? [...points.value, tip.value] : points.value,
)
function at(e: PointerEvent): [number, number] {
  const r = host.value!.getBoundingClientRect()
  return [(e.clientX - r.left) / r.width, (e.clientY - r.top) / r.height]
}
function finish(away: boolean) {
  const edit = editOf(props.tool, props.purpose, thinned(points.value), props.radius, props.soft, away)
  clear()
  if (edit) emit('edit', edit)
}
/** One more corner of the outline; on the first one it is closed. */
function corner(here: [number, number], away: boolean) {
  const [first] = points.value
  const closes =
    points.value.length > 2 && Math.hypot((here[0] - first[0]) * 1000, (here[1] - first[1]) * high.value) < 14
  if (closes) finish(away)
  else points.value = [...points.value, here]
}
function down(e: PointerEvent) {
  // other buttons and more fingers move the photo
  if (e.button !== 0 || !e.isPrimary) return
  e.stopPropagation()
  e.preventDefault()
  // keys that end the outline belong to it now, not to the button that was pressed last
  host.value!.focus({ preventScroll: true })
  hide()
  if (props.tool === 'outline') return corner(at(e), e.altKey)
  points.value = [at(e)]
  const away = e.altKey
  drag(e, {
    move: (m) => (points.value = [...points.value, at(m)]),
    up: () => finish(away),
    cancel: clear,
  })
}
defineExpose({
  finish: () => finish(false),
  back: () => (points.value = points.value.slice(0, -1)),
  clear,
  drawing: computed(() => points.value.length > 0),
})
</script>

<template>
  <svg
    ref="host"
    class="draw"
    tabindex="0"
    role="application"
    :aria-label="t('masks.byKeys')"
    :class="tool"
    :viewBox="`0 0 1000 ${high}`"
    preserveAspectRatio="none"
    @keydown="press"
    @blur="hide"
    @pointerdown="down"
    @pointermove="hover = at($event)"
    @pointerleave="hover = null"
    @dblclick.stop="tool === 'outline' && finish(false)"
  >
    <template v-if="tool === 'brush'">
      <polyline
        v-if="points.length"
        class="stroke"
        :class="purpose"
        :points="written(points.length > 1 ? points : [points[0], points[0]])"
        :stroke-width="2000 * radius"
      />
      <circle v-if="tip" class="tip" :cx="tip[0] * 1000" :cy="tip[1] * high" :r="1000 * radius" />
    </template>
    <template v-else>
      <polygon v-if="shown.length" class="area" :class="purpose" :points="written(shown)" />
      <template v-if="tool === 'outline'">
        <circle
          v-for="(p, k) in points"
          :key="k"
          class="corner"
          :cx="p[0] * 1000"
          :cy="p[1] * high"
          :r="k ? 4 : 7"
        />
      </template>
    </template>
    <path
      v-if="cross"
      class="cross"
      :d="`M${cross[0] * 1000 - 16},${cross[1] * high}h32M${cross[0] * 1000},${cross[1] * high - 16}v32`"
    />
  </svg>
</template>

<style scoped>
.draw {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  cursor: crosshair;
  touch-action: none;
  outline: none;
}
.area {
  fill: #ffffff30;
  stroke: #fff;
  stroke-width: 1.6;
  vector-effect: non-scaling-stroke;
  paint-order: stroke;
  filter: drop-shadow(0 0 1.5px #000);
}
.area.away,
.area.ignore {
  stroke-dasharray: 6 4;
  fill: #0000003d;
}
.stroke {
  fill: none;
  stroke: #ffffff80;
  stroke-linecap: round;
  stroke-linejoin: round;
}
.stroke.away {
  stroke: #1c1a1680;
}
.tip {
  fill: none;
  stroke: #fff;
  vector-effect: non-scaling-stroke;
  filter: drop-shadow(0 0 1.5px #000);
}
.corner {
  fill: #fff;
  stroke: #1c1a16;
  stroke-width: 1.2;
  vector-effect: non-scaling-stroke;
}
.cross {
  fill: none;
  stroke: #fff;
  stroke-width: 1.6;
  vector-effect: non-scaling-stroke;
  filter: drop-shadow(0 0 1.5px #000);
}
.draw:focus-visible {
  outline: 2px solid var(--lichen);
  outline-offset: -2px;
}
</style>
