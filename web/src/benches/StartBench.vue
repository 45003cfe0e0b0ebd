<script setup lang="ts">
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { useProject } from '@/stores/project'

/** A new project: what there is already says where it begins. */
const { t } = useI18n()
const router = useRouter()
const project = useProject()
const WAYS = [
  ['plan', 'plan'],
  ['photos', 'photos'],
  ['video', 'photos'],
] as const
</script>

<template>
  <section class="bench start">
    <h1>{{ t('start.title') }}</h1>
    <div class="ways">
      <button
        v-for="[way, layer] in WAYS"
        :key="way"
        class="way"
        @click="router.push(`/projects/${project.id}/${layer}`)"
      >
        <b>{{ t(`start.${way}`) }}</b>
        <span>{{ t(`start.${way}Hint`) }}</span>
      </button>
    </div>
  </section>
</template>

<style scoped>
.start {
  display: grid;
  place-content: center;
  gap: 18px;
  padding: 24px;
}
h1 {
  font-size: 20px;
  margin: 0;
}
.ways {
  display: grid;
  gap: 10px;
  width: min(560px, 100%);
}
.way {
  display: grid;
  gap: 3px;
  text-align: left;
  padding: 14px 18px;
  background: var(--paper);
  border: 1px solid var(--joint);
  border-left: 4px solid var(--ochre);
  border-radius: 6px;
  cursor: pointer;
}
.way:hover {
  border-color: var(--ochre);
}
.way b {
  font-size: 16px;
}
.way span {
  color: var(--ink2);
}
</style>
