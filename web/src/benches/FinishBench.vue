<script setup lang="ts">
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, tell, whole, type Draft, type Edit } from '@/api/client'
import EmptyLayer from '@/components/EmptyLayer.vue'
import FinishTools from '@/components/FinishTools.vue'
import ScreenShape from '@/components/ScreenShape.vue'
import WorldPane from '@/components/WorldPane.vue'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import { useChosenFaces } from '@/composables/useChosenFaces'
import { useKeys } from '@/composables/useKeys'
import { moveStep } from '@/composables/useHistory'
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
type Tool = 'turn' | 'rectangle' | 'outline' | 'lasso' | 'part' | 'flat'
const tool = ref<Tool>('turn')
const outline = ref<number[][]>([])
const drawing = computed(() =>
  tool.value === 'rectangle' || tool.value === 'outline' || tool.value === 'lasso' ? tool.value : null,
)
/** Whether what is drawn takes only what is seen, not what it covers behind. */
const front = ref(true)
/** Places picked on the model, to be laid level. */
const picked = ref<[number, number, number][] | null>(null)
const mode = ref<MeshMode>('textured')
const there = computed(() => project.layer('texture')?.number ?? null)

async function fetchDraft() {
  if (!there.value) return
  const now = await ask(api.GET('/api/v1/projects/{project_id}/draft', project.path))
  // its files may have been freed since
  if (now.faces === null && !now.making)
    draft.value = await made(await ask(api.POST('/api/v1/projects/{project_id}/draft/make', project.path)))
  else draft.value = await made(now)
}
/** The draft when the worker has made what it holds. */
async function made(now: Draft): Promise<Draft> {
  if (!now.making) return now
  const over = await jobs.over(now.making.id)
  if (over?.state === 'failed') tell(say(over.message))
  return await ask(api.GET('/api/v1/projects/{project_id}/draft', project.path))
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
  w.onSpot = (p) => pressed(p.toArray() as [number, number, number])
  if (draft.value?.faces == null) await fetchDraft()
  await w.setMesh(`/api/v1/projects/${project.id}/draft/mesh?at=${Date.now()}`, mode.value)
})
useCompared(
  world,
  () => props.compared,
  (w, n) => w.setMesh(`/api/v1/projects/${project.id}/layers/finish/mesh?number=${n}`, mode.value, true),
)
const chosen = useChosenFaces(world)
/** What is done is done in the order it was asked for, and nothing that was asked for is dropped. */
const { waiting, act } = useInTurn<Draft>(
  (now) => (draft.value = now),
  () => load(),
)
const add = (edit: Edit) => {
  const { project_id } = project.path.params.path
  const on = draft.value?.on
  outline.value = []
  void chosen.clear()
  const where = { params: { path: { project_id }, query: { on } }, body: whole(edit) }
  return act(async () => made(await ask(api.POST('/api/v1/projects/{project_id}/draft', where), true)))
}
const move = (forth: boolean) =>
  act(async () => {
    await moveStep(project, 'finish', forth)
    return made(await ask(api.POST('/api/v1/projects/{project_id}/draft/make', project.path), true))
  })
const undo = () => move(false)
const redo = () => move(true)
const anew = () =>
  act(async () => made(await ask(api.DELETE('/api/v1/projects/{project_id}/draft', project.path), true)))
const carry = () =>
  act(async () => made(await ask(api.POST('/api/v1/projects/{project_id}/draft/carry', project.path), true)))
const keep = () => ask(api.POST('/api/v1/projects/{project_id}/draft/keep', project.path), true)

/** A shape is drawn: what it holds is chosen, and tinted. */
function drawn(held: { shift: boolean; alt: boolean }) {
  const { width, height } = world.value!.canvas.getBoundingClientRect()
  const shape = toClip(outline.value, width, height)
  const matrix = world.value!.matrix()
  outline.value = []
  if (shape.length > 2)
    void chosen.choose({ by: 'outline', outline: shape, matrix, front: front.value }, held)
}
/** Places that lengths are told between, while that is asked for. */
const trail = ref<[number, number, number][]>([])
const measuring = ref(false)
watch([trail, world], () => world.value?.marks.setTrail(trail.value))
const metric = computed(() => {
  const version = project.version('cameras')
  return version?.layer !== 'cameras' || ['bars', 'mat'].includes(version.figures.scale_from ?? 'nothing')
})
function measure(on: boolean) {
  measuring.value = on
  trail.value = []
  if (on) setTool('turn')
}
/** A place of the model was pressed. */
function pressed(at: [number, number, number]) {
  if (measuring.value) {
    trail.value = [...trail.value, at]
  } else if (picked.value) {
    picked.value = [...picked.value, at]
    if (picked.value.length < 3) return
    void add({ kind: 'level', at: picked.value })
    picked.value = null
  } else if (tool.value === 'part') void chosen.choose({ by: 'part', at: [at] })
  else if (tool.value === 'flat') void chosen.choose({ by: 'flood', at: [at], angle: 12 })
}
function remove() {
  if (chosen.faces.value) void add({ kind: 'delete', where: chosen.where.value })
}
function pick() {
  setTool('turn')
  picked.value = picked.value ? null : []
}
/** Counts how often a tool was taken: each time the surface is a fresh one, and has the focus. */
const taken = ref(0)
function setTool(next: Tool) {
  picked.value = null
  tool.value = next
  taken.value++
  world.value?.setTool(!!drawing.value)
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
          v-for="k in ['turn', 'rectangle', 'outline', 'lasso', 'part', 'flat'] as const"
          :key="k"
          :aria-pressed="tool === k"
          @click="setTool(k)"
        >
          {{ t(`finish.${k}`) }}
        </button></span
      >
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
    </div>
    <p v-if="draft && there !== null && draft.on !== there" class="notice">
      {{ t('finish.other', { on: draft.on, now: there }) }}
      <button v-if="draft.done" class="plainbtn" @click="carry">
        {{ t('finish.carry', { now: there }) }}
      </button>
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
      <ScreenShape
        v-if="drawing"
        :key="taken"
        v-model="outline"
        :tool="drawing"
        :world="world"
        @done="drawn"
      />
    </WorldPane>
    <Teleport to="#tray-top">
      <FinishTools
        v-model:front="front"
        :draft="draft"
        :chosen="chosen"
        :waiting="waiting"
        :picking="picked !== null"
        :picked="picked?.length ?? 0"
        :trail="trail"
        :metric="metric"
        @add="add"
        @undo="undo"
        @redo="redo"
        @keep="keep"
        @pick="pick"
        @measure="measure"
        @forget="trail = []"
      >
        <a
          v-if="draft?.done"
          class="plainbtn"
          :href="`/api/v1/projects/${project.id}/draft/edits`"
          download="edits.json"
          >{{ t('finish.asFile') }}</a
        >
      </FinishTools>
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
</style>
