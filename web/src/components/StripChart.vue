<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{
  values: { key: string; value: number; off?: boolean; bad?: boolean }[]
  title: string
  selected: string | null
}>()
const emit = defineEmits<{ pick: [key: string] }>()
/** Bars stand on the least value, or on nothing where all are above it. */
const top = computed(() => Math.max(1e-9, ...props.values.map((v) => v.value)))
const low = computed(() => Math.min(0, ...props.values.map((v) => v.value)))
const height = (v: number) => Math.max(2, (100 * (v - low.value)) / (top.value - low.value))
</script>

<template>
  <figure class="strip">
    <figcaption>{{ title }}</figcaption>
    <div class="bars">
      <button
        v-for="v in values"
        :key="v.key"
        :title="`${v.key}: ${v.value.toPrecision(3)}`"
        :class="{ on: v.key === selected, off: v.off, bad: v.bad }"
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
</style>
