<script setup lang="ts">
import { computed, ref } from 'vue'
import { drag } from '@/lib/drag'

const props = defineProps<{
  values: { key: string; value: number; off?: boolean; bad?: boolean }[]
  title: string
  selected: string | null
  /** Keys that were brushed. */
  picked?: string[]
}>()
const emit = defineEmits<{ pick: [key: string]; brush: [keys: string[]] }>()
const bars = ref<HTMLElement>()
const inside = computed(() => new Set(props.picked ?? []))
/** Bars stand on the least value, or on nothing where all are above it. */
const top = computed(() => Math.max(1e-9, ...props.values.map((v) => v.value)))
const low = computed(() => Math.min(0, ...props.values.map((v) => v.value)))
const height = (v: number) => Math.max(2, (100 * (v - low.value)) / (top.value - low.value))

/** Drawn along the bars, a brush picks those from where it began to where it is. */
function brush(e: PointerEvent) {
  const r = bars.value!.getBoundingClientRect()
  const at = (m: PointerEvent) =>
    Math.min(
      props.values.length - 1,
      Math.max(0, Math.floor(((m.clientX - r.left) / r.width) * props.values.length)),
    )
  const begin = at(e)
  const move = (m: PointerEvent) => {
    const [a, b] = [Math.min(begin, at(m)), Math.max(begin, at(m))]
    emit('brush', a === b ? [] : props.values.slice(a, b + 1).map((v) => v.key))
  }
  if ((props.picked ?? []).length) emit('brush', [])
  drag(e, { move })
}
</script>

<template>
  <figure class="strip">
    <figcaption>{{ title }}</figcaption>
    <div ref="bars" class="bars" @pointerdown="brush">
      <button
        v-for="v in values"
        :key="v.key"
        :title="`${v.key}: ${v.value.toPrecision(3)}`"
        :class="{ on: v.key === selected, off: v.off, bad: v.bad, in: inside.has(v.key) }"
        tabindex="-1"
        @click="emit('pick', v.key)"
      >
        <i :style="{ height: `${height(v.value)}%` }"></i>
      </button>
    </div>
  </figure>
</template>

<style scoped>
.strip {
  border-top: 1px solid var(--joint);
  background: var(--stone);
  padding: 5px 12px 8px;
}
figcaption {
  font-size: 12px;
  color: var(--ink2);
}
.bars {
  display: flex;
  height: 58px;
  gap: 1px;
}
button {
  flex: 1;
  min-width: 1px;
  border: 0;
  padding: 0;
  background: none;
  display: flex;
  align-items: flex-end;
  cursor: pointer;
}
i {
  display: block;
  width: 100%;
  background: #a8987a;
  border-radius: 1px 1px 0 0;
}
.bad i {
  background: var(--ochre);
}
.on i {
  background: var(--lichen);
}
.off i {
  background: none;
  border: 1px solid var(--rust);
}
.in {
  background: var(--lichen-bg);
}
</style>
