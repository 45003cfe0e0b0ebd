<script setup lang="ts">
import { computed, nextTick, onMounted, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { useCrosshair } from '@/composables/useCrosshair'
import { drag } from '@/lib/drag'
import { drawnTo, isWhole, type ShapeTool } from '@/lib/screen'
import type { World } from '@/world/World'

/**
 * Shapes drawn over the world by pointer or by keys. The view still turns with the other buttons. A shape with straight sides
 * grows by a press for each corner and is closed by a double press, by Enter or at its first corner; the others end when the
 * pointer is let go. Every tool has a surface of its own: whoever takes one gives it a new key.
 */
const props = defineProps<{ tool: ShapeTool; world: World | null; radius?: number; label?: string }>()
/** Corners in pixels of the surface. */
const shape = defineModel<number[][]>({ required: true })
const emit = defineEmits<{ done: [held: { shift: boolean; alt: boolean }] }>()
const { t } = useI18n()
const overlay = ref<SVGSVGElement>()
const points = computed(() => shape.value.map((p) => p.join(',')).join(' '))
const at = ref<number[] | null>(null)
/** How near to its first corner a press closes a shape (pixels). */
const CLOSE = 9

onMounted(() => nextTick(() => overlay.value?.focus({ preventScroll: true })))

const sides = () => overlay.value!.getBoundingClientRect()
const place = (e: PointerEvent | MouseEvent) => [e.clientX - sides().left, e.clientY - sides().top]
function done(e: { shiftKey: boolean; altKey: boolean }) {
  if (isWhole(props.tool, shape.value)) emit('done', { shift: e.shiftKey, alt: e.altKey })
}
function down(e: PointerEvent) {
  if (e.button !== 0) return forward(e)
  if (props.tool === 'outline') return corner(e)
  shape.value = [place(e)]
  drag(e, {
    move: (m) => (shape.value = drawnTo(props.tool, shape.value, place(m))),
    up: done,
    cancel: () => (shape.value = []),
  })
}
function corner(e: PointerEvent) {
  const here = place(e)
  const [first] = shape.value
  const closes = shape.value.length > 2 && Math.hypot(here[0] - first[0], here[1] - first[1]) < CLOSE
  if (closes || (e.detail > 1 && shape.value.length > 2)) done(e)
  else shape.value = [...shape.value, here]
}
/** Where a rectangle that is drawn by keys begins, or that a brush is down; its other corner follows the cross. */
let anchor: number[] | null = null
const { cross, press, hide } = useCrosshair({
  aspect: () => sides().width / sides().height,
  set: (c) => {
    const here = [c[0] * sides().width, c[1] * sides().height]
    if (props.tool === 'lasso' || props.tool === 'outline') shape.value = [...shape.value, here]
    else if (anchor) {
      anchor = null
      done({ shiftKey: false, altKey: false })
    } else shape.value = [(anchor = here)]
  },
  moved: (c) => {
    const here = [c[0] * sides().width, c[1] * sides().height]
    if (anchor) shape.value = drawnTo(props.tool, props.tool === 'rectangle' ? [anchor] : shape.value, here)
  },
})
function key(e: KeyboardEvent) {
  if (e.key === 'Enter') {
    anchor = null
    done(e)
  } else if (e.key === 'Backspace' && shape.value.length) shape.value = shape.value.slice(0, -1)
  else return press(e)
  e.preventDefault()
  e.stopPropagation()
}
const mark = computed(() => {
  const r = cross.value && overlay.value?.getBoundingClientRect()
  if (!cross.value || !r) return null
  const [x, y] = [cross.value[0] * r.width, cross.value[1] * r.height]
  return `M${x - 10},${y}h20M${x},${y - 10}v20`
})
/** Any other button goes on to the world, so that the view still turns while a tool is active. */
function forward(e: PointerEvent) {
  shape.value = []
  props.world?.canvas.dispatchEvent(new PointerEvent('pointerdown', e))
}
function wheel(e: WheelEvent) {
  shape.value = []
  props.world?.canvas.dispatchEvent(new WheelEvent('wheel', e))
}
</script>

<template>
  <svg
    ref="overlay"
    class="draw"
    tabindex="0"
    role="application"
    :aria-label="label ?? t('finish.byKeys')"
    @keydown="key"
    @blur="hide"
    @pointerdown="down"
    @pointermove="at = place($event)"
    @pointerleave="at = null"
    @contextmenu.prevent
    @wheel="wheel"
  >
    <polyline
      v-if="tool === 'brush' && shape.length"
      class="stroke"
      :points="shape.length > 1 ? points : `${points} ${points}`"
      :stroke-width="2 * (radius ?? 1)"
    />
    <polygon v-else-if="shape.length > 1" :points="points" />
    <circle v-else-if="shape.length" :cx="shape[0][0]" :cy="shape[0][1]" r="4" />
    <circle v-if="tool === 'brush' && at" class="tip" :cx="at[0]" :cy="at[1]" :r="radius" />
    <path v-if="mark" :d="mark" />
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
}
.draw polygon,
.draw path,
.draw circle {
  fill: #0e7c7b30;
  stroke: var(--lichen);
  stroke-width: 1.5;
}
.draw .tip {
  fill: none;
  pointer-events: none;
}
.draw .stroke {
  fill: none;
  stroke: #0e7c7b55;
  stroke-linecap: round;
  stroke-linejoin: round;
}
.draw:focus-visible {
  outline: 2px solid var(--lichen);
  outline-offset: -2px;
}
</style>
