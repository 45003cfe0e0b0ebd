<script setup lang="ts">
import { ElCheckbox } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Photo } from '@/api/client'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import { say, type Sentence } from '@/i18n/say'

/** What judging proposes: ticked beforehand, done with one press, taken back with another. */
const { t } = useI18n()
const project = useProject()
const jobs = useJobs()
const ticked = ref<Set<string>>(new Set())
const findings = ref<Sentence[]>([])
const before = ref<string[] | null>(null)

const judged = computed(() => project.photos.filter((p) => p.judged))
const proposals = computed(() =>
  judged.value
    .filter((p) => p.judged!.proposal !== 'keep' && !p.problem)
    .sort((a, b) => (a.judged!.proposal < b.judged!.proposal ? 1 : -1)),
)
const open = computed(() => proposals.value.filter((p) => p.kept))
const chosen = computed(() => open.value.filter((p) => ticked.value.has(p.path)))
const working = computed(() => jobs.active.some((j) => j.project_id === project.id))

watch(
  () => judged.value.map((p) => `${p.path} ${p.judged!.proposal}`).join('|'),
  async () => {
    ticked.value = new Set(
      proposals.value.filter((p) => p.judged!.proposal === 'leave out').map((p) => p.path),
    )
    if (judged.value.length)
      findings.value = await ask(api.GET('/api/v1/projects/{project_id}/photos/judge', project.path))
  },
  { immediate: true },
)

function tick(p: Photo, on: boolean) {
  const next = new Set(ticked.value)
  if (on) next.add(p.path)
  else next.delete(p.path)
  ticked.value = next
}
async function accept() {
  const paths = chosen.value.map((p) => p.path)
  before.value = paths
  await project.keep(
    paths,
    false,
    open.value.map((p) => p.path),
  )
}
async function undo() {
  if (before.value) await project.keep(before.value, true)
  before.value = null
}
const judge = () => ask(api.POST('/api/v1/projects/{project_id}/photos/judge', project.path))
</script>

<template>
  <div v-if="project.photos.length" class="proposals">
    <h2>{{ t('judge.title') }}</h2>
    <p v-if="!judged.length" class="quiet">{{ t('judge.hint') }}</p>
    <p v-else-if="!proposals.length" class="quiet">{{ t('judge.good', { n: judged.length }) }}</p>
    <ul v-else>
      <li v-for="p in proposals" :key="p.path" :class="{ out: !p.kept, on: p.path === project.selected }">
        <el-checkbox
          :model-value="p.kept ? ticked.has(p.path) : true"
          :disabled="!p.kept"
          size="small"
          :aria-label="t('judge.tick', { photo: p.path })"
          @change="tick(p, Boolean($event))"
        />
        <button @click="project.selected = p.path">
          <b>{{ p.path.split('/').pop() }}</b> {{ say(p.judged!.says) }}
          <i v-if="p.judged!.proposal === 'doubtful'">{{ t('judge.doubtful') }}</i>
        </button>
      </li>
    </ul>
    <p v-for="f in findings" :key="f.text" class="note">{{ say(f) }}</p>
    <button v-if="chosen.length" class="go" @click="accept">
      <b>{{ t('judge.accept', { n: chosen.length }) }}</b>
    </button>
    <button v-if="before" class="link" @click="undo">{{ t('judge.undo', { n: before.length }) }}</button>
    <button class="link" :disabled="working" @click="judge">
      {{ judged.length ? t('judge.again') : t('judge.judge') }}
    </button>
  </div>
</template>

<style scoped>
.proposals {
  padding: 8px 14px;
  border-bottom: 1px solid var(--joint);
}
h2 {
  font-size: 13px;
  margin: 0 0 3px;
}
p {
  margin: 2px 0;
  font-size: 13px;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  max-height: 300px;
  overflow: auto;
}
li {
  display: grid;
  grid-template-columns: 22px 1fr;
  align-items: start;
  font-size: 12.5px;
  border-bottom: 1px solid var(--joint);
}
li button {
  border: 0;
  background: none;
  font: inherit;
  color: var(--ink);
  text-align: left;
  cursor: pointer;
  padding: 4px 0;
}
li.on button {
  color: var(--lichen-ink);
}
li i {
  color: var(--ochre);
}
li.out {
  opacity: 0.5;
}
.note {
  border-left: 3px solid var(--ochre);
  padding: 3px 8px;
  background: var(--stone);
}
.go {
  width: 100%;
  margin: 6px 0;
}
.link {
  padding: 3px 12px 3px 0;
}
</style>
