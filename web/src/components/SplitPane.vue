<script setup lang="ts">
import { useElementSize, useLocalStorage } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { drag } from '@/lib/drag'
import { bestShare } from '@/lib/panes'

/** Two panes with a line between them that can be dragged; where it was left is remembered. */
const props = defineProps<{
  /** What the place of the line is remembered by. */
  name: string
  /** Shape of the photos in the second pane: width over height. */
  aspect: number
  /** How many of them it holds, one after the other. */
  count?: number
  /** The second pane has all the room. */
  full?: boolean
  /** There is nothing to show in it: the first pane has all the room. */
  off?: boolean
  /** Share of the room that it takes at most, unless somebody drags it. */
  most?: number
}>()
const { t } = useI18n()
const host = ref<HTMLElement>()
const { width, height } = useElementSize(host)
const best = computed(() =>
  bestShare([width.value, height.value], props.aspect, props.count ?? 1, props.most),
)
const dragged = useLocalStorage<Record<string, number>>('panes', {})
const key = computed(() => `${props.name} ${best.value.side}`)
const share = computed(() => dragged.value[key.value] ?? best.value.share)
const beside = computed(() => best.value.side === 'beside')

function set(next: number) {
  dragged.value = { ...dragged.value, [key.value]: Math.min(0.8, Math.max(0.12, next)) }
}
function take(e: PointerEvent) {
  const r = host.value!.getBoundingClientRect()
  const before = dragged.value
  drag(e, {
    move: (m) => set(beside.value ? (r.right - m.clientX) / r.width : (r.bottom - m.clientY) / r.height),
    cancel: () => (dragged.value = before),
  })
  e.preventDefault()
}
function forget() {
  dragged.value = Object.fromEntries(Object.entries(dragged.value).filter(([k]) => k !== key.value))
}
function press(e: KeyboardEvent) {
  const by = { ArrowLeft: 0.02, ArrowUp: 0.02, ArrowRight: -0.02, ArrowDown: -0.02 }[e.key]
  if (by) set(share.value + by)
  else if (e.key === 'Home') forget()
  else return
  e.preventDefault()
  e.stopPropagation()
}
</script>

<template>
  <div
    ref="host"
    class="panes2"
    :class="props.full || props.off ? 'full' : best.side"
    :style="{ '--share': `${(100 * share).toFixed(2)}%` }"
  >
    <div v-if="!props.full" class="pane"><slot name="first"></slot></div>
    <div
      v-if="!props.full && !props.off"
      class="bar2"
      role="separator"
      tabindex="0"
      :aria-orientation="beside ? 'vertical' : 'horizontal'"
      :aria-valuenow="Math.round(100 * share)"
      aria-valuemin="12"
      aria-valuemax="80"
      :aria-label="t('panes.line')"
      :title="t('panes.hint')"
      @pointerdown="take"
      @dblclick="forget"
      @keydown="press"
    ></div>
    <div v-if="!props.off" class="pane" :style="{ '--count': props.count ?? 1 }">
      <slot name="second"></slot>
    </div>
  </div>
</template>

<style scoped>
.panes2 {
  flex: 1;
  min-height: 0;
  min-width: 0;
  display: grid;
}
.full {
  grid-template: minmax(0, 1fr) / minmax(0, 1fr);
}
.beside {
  grid-template: minmax(0, 1fr) / minmax(0, 1fr) 7px var(--share);
}
.under {
  grid-template: minmax(0, 1fr) 7px var(--share) / minmax(0, 1fr);
}
.pane {
  min-width: 0;
  min-height: 0;
  position: relative;
  display: grid;
  gap: 1px;
}
.beside > :last-child {
  grid-template: repeat(var(--count), minmax(0, 1fr)) / minmax(0, 1fr);
}
.under > :last-child {
  grid-template: minmax(0, 1fr) / repeat(var(--count), minmax(0, 1fr));
}
.bar2 {
  background: var(--stone2);
  touch-action: none;
  cursor: col-resize;
}
.under > .bar2 {
  cursor: row-resize;
}
.bar2:hover,
.bar2:focus-visible {
  background: var(--lichen);
}
</style>
