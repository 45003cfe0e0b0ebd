<script setup lang="ts">
import { ElDialog } from 'element-plus'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { seconds } from '@/lib/format'
import { useJobs } from '@/stores/jobs'
import { say } from '@/i18n/say'

const { t } = useI18n()
const jobs = useJobs()
const open = ref(false)
const now = computed(() => jobs.running ?? jobs.active[0] ?? null)
const share = computed(() => (now.value && now.value.total > 0 ? now.value.done / now.value.total : 0))
</script>

<template>
  <footer class="line" role="status">
    <template v-if="!jobs.connected"
      ><b class="bad">{{ t('job.gone') }}</b></template
    >
    <template v-else-if="now">
      <b v-if="now.pause" class="bad">{{ say(now.message) || t('job.waits') }}</b>
      <b v-else>{{ say(now.stage) || t(`job.${now.state}`) }}</b>
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
    <span v-else class="quiet">{{ t('job.idle') }}</span>
    <button class="plainbtn end" @click="open = true">{{ t('job.queue') }}</button>
    <span v-if="now" class="quiet">{{ t('job.closeable') }}</span>
    <el-dialog v-model="open" :title="t('job.queue')" width="720">
      <div class="list">
        <details v-for="j in jobs.jobs" :key="j.id!" :open="j.state === 'running'">
          <summary>
            {{ j.id }} · {{ j.kind === 'run' ? t(`layers.${j.until}`) : t(`job.kind.${j.kind}`) }} ·
            {{ t(`job.${j.state}`) }}
            <span v-if="j.message.text" class="bad">{{ say(j.message) }}</span>
          </summary>
          <pre>{{ j.log.map(say).join('\n') }}</pre>
        </details>
      </div>
    </el-dialog>
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
}
.track {
  flex: 0 0 240px;
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
.end {
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
.list {
  max-height: 60vh;
  overflow: auto;
}
pre {
  font-size: 12px;
  white-space: pre-wrap;
  padding: 6px 14px;
  color: var(--ink2);
}
summary {
  cursor: pointer;
  padding: 4px 0;
}
</style>
