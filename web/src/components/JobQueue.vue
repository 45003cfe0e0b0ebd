<script setup lang="ts">
import { onClickOutside } from '@vueuse/core'
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import type { Job } from '@/api/client'
import { useNotices } from '@/composables/useNotices'
import { say } from '@/i18n/say'
import { useJobs } from '@/stores/jobs'

/** Jobs, newest first, with what they made and where it is; opens upwards from the job line. */
const emit = defineEmits<{ close: [] }>()
const { t } = useI18n()
const jobs = useJobs()
const router = useRouter()
const notices = useNotices()
const panel = ref<HTMLElement>()
onClickOutside(panel, () => emit('close'), { ignore: ['.queue'] })

/** The layer whose bench shows what a job made. */
function layerOf(job: Job): string {
  if (job.kind === 'run') return job.until ?? 'photos'
  return job.kind === 'edit' ? 'finish' : job.kind === 'parcel' ? 'dispatch' : 'photos'
}
const titleOf = (job: Job) =>
  job.kind === 'run' ? t('job.runOf', { layer: t(`layers.${job.until}`) }) : t(`job.kind.${job.kind}`)
function show(job: Job) {
  emit('close')
  router.push(`/projects/${job.project_id}/${layerOf(job)}`)
}
</script>

<template>
  <section ref="panel" class="panel" :aria-label="t('job.queue')" @keydown.esc="emit('close')">
    <header>
      <h2>{{ t('job.queue') }}</h2>
      <button v-if="notices.possible" class="link" :aria-pressed="notices.on.value" @click="notices.toggle">
        {{ t(notices.on.value ? 'job.notifying' : 'job.notify') }}
      </button>
      <button class="link" :aria-label="t('keys.close')" @click="emit('close')">✕</button>
    </header>
    <p v-if="!jobs.jobs.length" class="quiet">{{ t('job.none') }}</p>
    <ol>
      <li v-for="j in jobs.jobs" :key="j.id">
        <div class="row">
          <span class="what"
            ><b>{{ titleOf(j) }}</b> <span class="quiet">{{ j.project }}</span></span
          >
          <span class="quiet state">{{ t(`job.${j.state}`) }}</span>
          <button
            v-if="j.state === 'queued' || j.state === 'running'"
            class="link"
            @click="jobs.cancel(j.id)"
          >
            {{ t('job.cancel') }}
          </button>
          <button v-else class="link" @click="show(j)">{{ t('job.show') }}</button>
        </div>
        <p v-if="j.message.text" :class="j.state === 'failed' || j.pause ? 'bad' : 'quiet'">
          {{ say(j.message) }}
        </p>
        <details v-if="j.log.length">
          <summary>{{ t('job.log') }}</summary>
          <pre>{{ j.log.map(say).join('\n') }}</pre>
        </details>
      </li>
    </ol>
  </section>
</template>

<style scoped>
.panel {
  position: absolute;
  right: 0;
  bottom: 32px;
  z-index: 20;
  width: min(460px, 100vw);
  max-height: min(70vh, 620px);
  overflow: auto;
  background: var(--paper);
  border: 1px solid var(--joint);
  border-radius: 7px 0 0 0;
  box-shadow: 0 -3px 14px #0002;
  padding: 10px 14px;
}
header {
  display: flex;
  align-items: baseline;
  gap: 12px;
}
h2 {
  font-size: 14px;
  margin-right: auto;
}
ol {
  list-style: none;
  padding: 0;
}
li {
  border-top: 1px solid var(--joint);
  padding: 7px 0;
}
.row {
  display: flex;
  gap: 10px;
  align-items: baseline;
}
.what {
  flex: 1;
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
}
.state {
  white-space: nowrap;
}
p {
  overflow-wrap: anywhere;
}
summary {
  cursor: pointer;
  color: var(--ink2);
}
pre {
  font-family: inherit;
  font-size: 12px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  padding: 4px 12px;
  color: var(--ink2);
}
.bad {
  color: var(--rust);
}
.link {
  min-height: 24px;
  white-space: nowrap;
}
</style>
