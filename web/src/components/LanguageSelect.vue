<script setup lang="ts">
import { useI18n } from 'vue-i18n'
import { setLanguage } from '@/i18n'
import { type Language, LANGUAGES } from '@/i18n/languages'

/** The language of the page, each called as it calls itself. */
const { t, locale } = useI18n()
</script>

<template>
  <select
    class="language"
    :value="locale"
    :aria-label="t('app.language')"
    :title="t('app.language')"
    @change="setLanguage(($event.target as HTMLSelectElement).value as Language)"
  >
    <option v-for="(name, code) in LANGUAGES" :key="code" :value="code" :lang="code">{{ name }}</option>
  </select>
</template>

<style scoped>
.language {
  font: inherit;
  font-size: 12px;
  color: inherit;
  background: transparent;
  border: 1px solid var(--joint);
  border-radius: 4px;
  padding: 1px 2px;
}
.language option {
  background: var(--paper);
  color: var(--ink);
}
</style>
