<script setup lang="ts">
import { ElInputNumber, ElSwitch } from 'element-plus'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, tell, type Draft, type Edit } from '@/api/client'
import EmptyLayer from '@/components/EmptyLayer.vue'
import ScreenShape from '@/components/ScreenShape.vue'
import WorldPane from '@/components/WorldPane.vue'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import { useKeys } from '@/composables/useKeys'
import { useInTurn } from '@/composables/useInTurn'
import { useCompared, useWorldOf } from '@/composables/useWorldOf'
import { toClip } from '@/lib/screen'
import type { MeshMode } from '@/world/World'
import { say } from '@/i18n/say'

const props = defineProps<{ compared: number | null }>()
const { t } = useI18n()
const project = useProject()
const jobs = useJobs()
const draft = shallowRef<Draft | null>(null)
const tool = ref<'turn' | 'rectangle' | 'outline' | 'lasso'>('turn')
const outline = ref<number[][]>([])
const closed = ref(false)
const faces = ref(20000)
const mode = ref<MeshMode>('textured')
const there = computed(() => project.layer('texture')?.number ?? null)

async function fetchDraft() {
  if (!there.value) return
  const now = await ask(api.GET('/api/projects/{project_id}/draft', project.path))
  // its files may have been freed since
  if (now.faces === null && !now.making)
    draft.value = await made(await ask(api.POST('/api/projects/{project_id}/draft/make', project.path)))
  else draft.value = await made(now)
}
/** The draft when the worker has made what it holds. */
async function made(now: Draft): Promise<Draft> {
  if (!now.making) return now
  const over = await jobs.over(now.making.id)
  if (over?.state === 'failed') tell(say(over.message))
  return await ask(api.GET('/api/projects/{project_id}/draft', project.path))
}
onMounted(fetchDraft)
/** Another page may edit the same draft. */
watch(
  () => jobs.changes?.[String(project.id)]?.draft,
  async () => {
    if (waiting.value) return
    const before = draft.value
    await fetchDraft()
    if (before && draft.value && (before.done !== draft.value.done || before.faces !== draft.value.faces))
      await load()
  },
)
watch(there, fetchDraft)

const {
  world,
  ready,
  again: load,
} = useWorldOf(there, async (w) => {
  w.setGround(1)
  if (draft.value?.faces == null) await fetchDraft()
  await w.setMesh(`/api/projects/${project.id}/draft/mesh?at=${Date.now()}`, mode.value)
})
useCompared(
  world,
  () => props.compared,
  (w, n) => w.setMesh(`/api/projects/${project.id}/layers/finish/mesh?number=${n}`, mode.value, true),
)
/** What is done is done in the order it was asked for, and nothing that was asked for is dropped. */
const { waiting, act } = useInTurn<Draft>(
  (now) => (draft.value = now),
  () => load(),
)
const add = (edit: Edit) => {
  const { project_id } = project.path.params.path
  const on = draft.value?.on
  outline.value = []
  const where = { params: { path: { project_id }, query: { on } }, body: edit }
  return act(async () => made(await ask(api.POST('/api/projects/{project_id}/draft', where), true)))
}
const undo = () =>
  act(async () => made(await ask(api.POST('/api/projects/{project_id}/draft/undo', project.path), true)))
const redo = () =>
  act(async () => made(await ask(api.POST('/api/projects/{project_id}/draft/redo', project.path), true)))
const anew = () =>
  act(async () => made(await ask(api.DELETE('/api/projects/{project_id}/draft', project.path), true)))
const keep = () => ask(api.POST('/api/projects/{project_id}/draft/keep', project.path), true)

function remove() {
  const { width, height } = world.value!.canvas.getBoundingClientRect()
  const shape = toClip(outline.value, width, height)
  if (shape.length > 2)
    void add({ kind: 'delete', outline: shape, matrix: world.value!.matrix(), invert: false })
}
/** Counts how often a tool was taken: each time the surface is a fresh one, and has the focus. */
const taken = ref(0)
function setTool(next: typeof tool.value) {
  tool.value = next
  taken.value++
  world.value?.setTool(next !== 'turn')
  outline.value = []
}
function setMode(m: MeshMode) {
  mode.value = m
  world.value?.setMeshMode(m)
}
useKeys('layers.finish', [
  { keys: 'Ctrl+Z', says: 'keys.undo', act: undo },
  { keys: 'Ctrl+Shift+Z', says: 'keys.redo', act: redo },
  { keys: 'Ctrl+Y', says: 'keys.redo', act: redo },
  { keys: 'Delete', says: 'keys.deleteInside', act: remove },
  { keys: 'Escape', says: 'keys.noTool', act: () => setTool('turn') },
])
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span class="seg"
        ><button
          v-for="k in ['turn', 'rectangle', 'outline', 'lasso'] as const"
          :key="k"
          :aria-pressed="tool === k"
          @click="setTool(k)"
        >
          {{ t(`finish.${k}`) }}
        </button></span
      >
      <button class="plainbtn" :disabled="outline.length < 3" @click="remove">
        {{ t('finish.delete') }}
      </button>
      <span class="seg"
        ><button
          v-for="m in ['textured', 'plain', 'wire', 'glass'] as const"
          :key="m"
          :aria-pressed="mode === m"
          @click="setMode(m)"
        >
          {{ t(`world.${m}`) }}
        </button></span
      >
      <span v-if="draft" class="end quiet num yields" role="status">
        <template v-if="waiting">{{ t('finish.working', { n: waiting }) }} · </template>
        <template v-if="draft.faces !== null">{{
          t('finish.edits', { n: draft.done, faces: draft.faces })
        }}</template></span
      >
    </div>
    <p v-if="draft && there !== null && draft.on !== there" class="notice">
      {{ t('finish.other', { on: draft.on, now: there }) }}
      <button class="plainbtn" @click="anew">{{ t('finish.anew', { now: there }) }}</button>
    </p>
    <EmptyLayer v-if="there === null" layer="finish" />
    <WorldPane
      v-else
      class="grow"
      :parts="['mesh', 'ground']"
      :comparing="props.compared !== null"
      @ready="ready"
    >
      <ScreenShape v-if="tool !== 'turn'" :key="taken" v-model="outline" :tool="tool" :world="world" />
    </WorldPane>
    <Teleport to="#tray-top">
      <div class="tools">
        <p class="quiet">{{ t('finish.hint') }}</p>
        <div class="pair">
          <button class="plainbtn" :disabled="!draft?.done && !waiting" @click="undo">
            {{ t('finish.undo') }}
          </button>
          <button class="plainbtn" :disabled="!draft?.redo && !waiting" @click="redo">
            {{ t('finish.redo') }}
          </button>
        </div>
        <button class="plainbtn" :disabled="!draft" @click="add({ kind: 'cut', at: 'ground', closed })">
          {{ t('finish.cutGround') }}
        </button>
        <button class="plainbtn" :disabled="!draft" @click="add({ kind: 'cut', at: 'box', closed })">
          {{ t('finish.cutBox') }}
        </button>
        <label class="pair"
          ><span>{{ t('finish.closed') }}</span
          ><el-switch v-model="closed" :aria-label="t('finish.closed')"
        /></label>
        <button class="plainbtn" :disabled="!draft" @click="add({ kind: 'main-body' })">
          {{ t('finish.main') }}
        </button>
        <div class="pair">
          <button class="plainbtn" :disabled="!draft" @click="add({ kind: 'decimate', faces })">
            {{ t('finish.decimate') }}
          </button>
          <el-input-number
            v-model="faces"
            :min="100"
            :max="5000000"
            :controls="false"
            size="small"
            style="width: 100px"
            :aria-label="t('finish.decimate')"
          />
        </div>
        <button class="go" :disabled="!!waiting || !draft?.done" @click="keep">
          <b>{{ t('finish.keep') }}</b>
        </button>
      </div>
    </Teleport>
  </section>
</template>

<style scoped>
.grow {
  flex: 1;
}
.notice {
  margin: 0;
  padding: 8px 14px;
  border-bottom: 1px solid var(--joint);
}
.pair {
  display: flex;
  gap: 8px;
  justify-content: space-between;
  align-items: center;
}
</style>
