<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { seconds } from '@/lib/format'
import JobQueue from '@/components/JobQueue.vue'
import { useJobs } from '@/stores/jobs'
import { say } from '@/i18n/say'

const { t } = useI18n()
const jobs = useJobs()
const open = ref(false)
const now = computed(() => jobs.running ?? jobs.active[0] ?? null)
/** What was over last while the page was open, until something else begins. */
const last = computed(() => jobs.ended)
const share = computed(() => now.value?.share ?? 0)
/** Whose job it is, and which of its steps: the line stands on every page, also on those of other projects. */
const place = computed(() => {
  const job = now.value
  if (!job) return ''
  const steps = job.steps > 1 ? t('job.step', { n: job.step, m: job.steps }) : ''
  return [job.project, steps].filter(Boolean).join(' · ')
})
</script>

<template>
  <footer class="line">
    <span class="now" role="status">
      <b v-if="!jobs.connected" class="bad">{{ t('job.gone') }}</b>
      <b v-else-if="now?.pause" class="bad">{{ say(now.message) || t('job.waits') }}</b>
      <template v-else-if="now"
        ><span class="quiet place">{{ place }}</span>
        <b>{{ say(now.stage) || t(`job.${now.state}`) }}</b></template
      >
      <template v-else-if="last"
        ><span :class="last.state === 'failed' ? 'bad' : 'quiet'">{{
          say(last.message) || t(`job.${last.state}`)
        }}</span></template
      >
      <span v-else class="quiet">{{ t('job.idle') }}</span>
    </span>
    <template v-if="jobs.connected && now">
      <span class="track"><i :style="{ width: `${Math.round(100 * share)}%` }"></i></span>
      <span v-if="now.total > 1" class="num">{{
        t('job.of', { done: Math.round(now.done), total: Math.round(now.total) })
      }}</span>
      <span v-if="now.seconds_left" class="num">{{
        t('job.left', { time: seconds(now.seconds_left) })
      }}</span>
      <button v-if="now.pause" class="plainbtn goon" @click="jobs.goOn(now.id!)">{{ t('job.goOn') }}</button>
      <button v-else-if="now.kind === 'shoot'" class="plainbtn" @click="jobs.pause(now.id!)">
        {{ t('job.pause') }}
      </button>
      <button class="plainbtn stop" @click="jobs.cancel(now.id!)">{{ t('job.cancel') }}</button>
    </template>
    <span v-if="now" class="quiet">{{ t('job.closeable') }}</span>
    <button class="plainbtn queue" :aria-expanded="open" @click="open = !open">{{ t('job.queue') }}</button>
    <JobQueue v-if="open" @close="open = false" />
  </footer>
</template>

<style scoped>
.line {
  border-top: 1px solid var(--joint);
  background: var(--stone2);
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 0 14px;
  font-size: 13px;
  height: 32px;
  position: relative;
}
.track {
  flex: 0 0 160px;
  height: 6px;
  background: var(--paper);
  border-radius: 3px;
  overflow: hidden;
}
.track i {
  display: block;
  height: 100%;
  background: var(--ochre);
  transition: width 0.3s;
}
.queue {
  margin-left: auto;
}
.plainbtn {
  padding: 0 9px;
}
.bad {
  color: var(--rust);
}
.goon {
  border-color: var(--ochre);
  color: var(--ochre);
  font-weight: 700;
}
.place {
  margin-right: 6px;
}
.now {
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
