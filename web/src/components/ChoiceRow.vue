<script setup lang="ts" generic="T extends string">
import { byArrows } from '@/lib/roving'

/** A few choices side by side, of which one is taken: one stop for Tab, arrows choose. */
defineProps<{ label: string; choices: { value: T; text: string; hint: string }[] }>()
const chosen = defineModel<T>({ required: true })
</script>

<template>
  <span class="seg" role="radiogroup" :aria-label="label" @keydown="byArrows">
    <button
      v-for="c in choices"
      :key="c.value"
      role="radio"
      :aria-checked="chosen === c.value"
      :tabindex="chosen === c.value ? 0 : -1"
      :title="c.hint"
      @click="chosen = c.value"
    >
      {{ c.text }}
    </button>
  </span>
</template>
