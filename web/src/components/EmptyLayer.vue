<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'

/** A layer that holds nothing yet: what it is for, what is needed first, and the button that does it or goes there. */
const props = defineProps<{ layer: string }>()
const { t } = useI18n()
const router = useRouter()
const project = useProject()
const jobs = useJobs()

/** Layers that can be had for a first look, without depth. */
const FIRST = ['points', 'surface', 'texture']
/** Finish and Dispatch take what Texture made. */
const runs = computed(() => (['finish', 'dispatch'].includes(props.layer) ? 'texture' : props.layer))
const usable = computed(() => project.photos.some((p) => p.kept && !p.problem))
const working = computed(() => jobs.active.some((j) => j.kind === 'run' && j.project_id === project.id))
const need = computed(() =>
  !usable.value ? 'photos' : working.value ? 'working' : runs.value === props.layer ? 'run' : 'texture',
)
const toPhotos = () => router.push(`/projects/${project.id}/photos`)
</script>

<template>
  <div class="emptynote">
    <div class="inner">
      <p class="what">{{ t(`empty.${props.layer}`) }}</p>
      <p>{{ t(`empty.needs.${need}`) }}</p>
      <button v-if="need === 'photos'" class="go" @click="toPhotos">{{ t('empty.toPhotos') }}</button>
      <template v-else-if="need !== 'working'">
        <button class="go" @click="project.run(runs)">
          {{ t('tray.run', { layer: t(`layers.${runs}`) }) }}
        </button>
        <button v-if="FIRST.includes(runs)" class="plainbtn" @click="project.run(runs, false, true)">
          {{ t('empty.first') }}
        </button>
        <p v-if="FIRST.includes(runs)" class="small">{{ t('empty.firstHint') }}</p>
      </template>
    </div>
  </div>
</template>

<style scoped>
.inner {
  max-width: 46ch;
  display: grid;
  gap: 10px;
  justify-items: center;
}
p {
  margin: 0;
}
.what {
  color: var(--ink);
  font-size: 16px;
}
.small {
  font-size: 13px;
}
.go {
  padding: 8px 18px;
}
</style>
