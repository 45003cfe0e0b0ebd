<script setup lang="ts">
import { useI18n } from 'vue-i18n'

/** There is nothing at this address, or no longer. */
defineProps<{ what?: 'page' | 'project' }>()
const { t } = useI18n()
</script>

<template>
  <main class="nowhere">
    <h1>{{ t(what === 'project' ? 'app.noProject' : 'app.noPage') }}</h1>
    <p>
      <router-link to="/">{{ t('app.toProjects') }}</router-link>
    </p>
  </main>
</template>

<style scoped>
.nowhere {
  height: 100%;
  display: grid;
  place-content: center;
  gap: 8px;
  text-align: center;
  background: var(--paper);
}
h1 {
  font-size: 17px;
}
a {
  color: var(--lichen-ink);
}
</style>
