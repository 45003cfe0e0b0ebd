import { computed, onMounted, shallowRef, watch } from 'vue'
import { api, ask } from '@/api/client'
import { useInTurn } from '@/composables/useInTurn'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'

export type EditedLayer = 'photos' | 'masks' | 'points' | 'finish'

/** Take the last step of a layer back, or do the one taken back last again. */
export function moveStep(project: ReturnType<typeof useProject>, layer: EditedLayer, forth: boolean) {
  const where = { params: { path: { project_id: project.id, layer } } }
  return project.does(() =>
    forth
      ? api.POST('/api/v1/projects/{project_id}/history/{layer}/redo', where)
      : api.POST('/api/v1/projects/{project_id}/history/{layer}/undo', where),
  )
}

/** What can be taken back in a layer and done again; kept by the server, so it is there after the page was closed. */
export function useHistory(layer: EditedLayer) {
  const project = useProject()
  const jobs = useJobs()
  const where = { params: { path: { ...project.path.params.path, layer } } }
  const read = () => ask(api.GET('/api/v1/projects/{project_id}/history/{layer}', where))
  const history = shallowRef<Awaited<ReturnType<typeof read>> | null>(null)
  const refresh = async () => void (history.value = await read())
  onMounted(refresh)
  watch(() => jobs.changes?.[String(project.id)]?.photos, refresh)

  const { act } = useInTurn<NonNullable<typeof history.value>>(
    (now) => (history.value = now),
    () => undefined,
  )
  const undo = () => act(() => moveStep(project, layer, false))
  const redo = () => act(() => moveStep(project, layer, true))
  return {
    undo,
    redo,
    refresh,
    undoes: computed(() => history.value?.undo_says ?? null),
    redoes: computed(() => history.value?.redo_says ?? null),
    canUndo: computed(() => !!history.value?.undo),
    canRedo: computed(() => !!history.value?.redo),
  }
}
