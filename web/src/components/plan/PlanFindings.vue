<script setup lang="ts">
import { useI18n } from 'vue-i18n'
import { say, type Sentence } from '@/i18n/say'

/** What there is to know of a plan: several fold to their number, and open in full. */
const props = defineProps<{ findings: Sentence[] }>()
const { t } = useI18n()
</script>

<template>
  <details v-if="props.findings.length" class="cards" :open="props.findings.length < 2">
    <summary>{{ t('plan.findings', { n: props.findings.length }) }}</summary>
    <div v-for="f in props.findings" :key="f.text" class="card">{{ say(f) }}</div>
  </details>
</template>

<style scoped>
.cards {
  border-bottom: 1px solid var(--joint);
  padding: 4px 0;
}
summary {
  padding: 4px 14px;
  font-weight: 600;
  color: var(--ochre);
  cursor: pointer;
}
.card {
  margin: 6px 12px;
  padding: 8px 11px;
  background: var(--stone);
  border-radius: 6px;
  border-left: 3px solid var(--ochre);
  font-size: 13px;
}
</style>
