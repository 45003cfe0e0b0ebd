import { computed, onMounted, shallowRef, watch } from 'vue'
import { api, ask, type MaskEdit, type Masks } from '@/api/client'
import { moveStep } from '@/composables/useHistory'
import { useInTurn } from '@/composables/useInTurn'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'

/** Masks of the open project, and mending them: edits are made in the order they were asked for, and can all be undone. */
export function useMasks() {
  const project = useProject()
  const jobs = useJobs()
  const masks = shallowRef<Masks | null>(null)
  const version = computed(() => project.layer('masks')?.number ?? 0)
  const fetchMasks = async () => {
    const wanted = project.id
    const now = await ask(api.GET('/api/v1/projects/{project_id}/masks', project.path))
    if (wanted === project.id) masks.value = now
  }
  onMounted(fetchMasks)
  watch(version, fetchMasks)
  watch(() => jobs.changes?.[String(project.id)]?.masks, fetchMasks)

  const { waiting, act } = useInTurn<Masks>(
    (now) => (masks.value = now),
    async () => undefined,
  )
  const add = (paths: string[], edit: MaskEdit) =>
    act(() =>
      ask(
        api.POST('/api/v1/projects/{project_id}/masks/edits', { ...project.path, body: { paths, edit } }),
        true,
      ),
    )
  const move = (forth: boolean) =>
    act(async () => {
      await moveStep(project, 'masks', forth)
      return ask(api.GET('/api/v1/projects/{project_id}/masks', project.path))
    })
  const undo = () => move(false)
  const redo = () => move(true)

  const rows = computed(() => new Map(masks.value?.rows.map((r) => [r.path, r]) ?? []))
  /** Those that stand out first: unsure, then of an unusual share; those without a mask come last. */
  const oddFirst = computed(() =>
    [...rows.value.values()]
      .sort(
        (a, b) =>
          Number(a.share === null) - Number(b.share === null) ||
          b.odd + 4 * (1 - (b.sure ?? 1)) - (a.odd + 4 * (1 - (a.sure ?? 1))),
      )
      .map((r) => r.path),
  )
  /** A picture of what is left out, asked for again whenever it may have changed. */
  const picture = (path: string, side: number) =>
    `/api/v1/projects/${project.id}/masks/picture?path=${encodeURIComponent(path)}&side=${side}` +
    `&v=${version.value}.${masks.value?.number ?? 0}`
  return { masks, rows, oddFirst, picture, add, undo, redo, waiting }
}
