import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import {
  api,
  ask,
  type Layer,
  type Photo,
  type Project,
  type SettingsChange,
  type VersionOf,
} from '@/api/client'

export const PARTS = ['layers', 'project', 'photos'] as const
export type Part = (typeof PARTS)[number]

/** What is to be asked for again when a part of the project, as in addresses, has changed. */
const ASKED: Record<string, readonly Part[]> = {
  photos: ['photos', 'project'],
  uploads: ['photos', 'project'],
  videos: ['photos', 'project'],
  layers: ['layers'],
  draft: ['layers'],
  points: ['layers'],
  masks: [],
  plan: ['project', 'layers'],
  project: ['project', 'layers'],
}

/** What is to be asked for again between two counts of changes (see `jobs.changes`). */
export function partsChanged(now: Record<string, number> = {}, before: Record<string, number> = {}): Part[] {
  const changed = Object.keys(now).filter((k) => now[k] !== before[k])
  return PARTS.filter((p) => changed.some((k) => (ASKED[k] ?? PARTS).includes(p)))
}

/** The open project: its layers and photos. */
export const useProject = defineStore('project', () => {
  const id = ref(0)
  const project = ref<Project | null>(null)
  const layers = shallowRef<Layer[]>([])
  const photos = shallowRef<Photo[]>([])
  const selected = ref<string | null>(null)
  const planned = ref(0)

  const path = computed(() => ({ params: { path: { project_id: id.value } } }))
  const layer = (name: string) => layers.value.find((l) => l.layer === name)
  function version<L extends string>(name: L): VersionOf<L> | null {
    const l = layer(name)
    return (l?.versions.find((v) => v.number === l.number) as VersionOf<L> | undefined) ?? null
  }

  /** Whether lengths are true, not roughly: by a marker mat or measured distances. */
  const metric = computed(() => ['mat', 'bars'].includes(version('cameras')?.figures.scale_from ?? ''))
  /** Shape of the selected photo, or of the first: width over height. */
  const aspect = computed(() => {
    const p =
      photos.value.find((x) => x.path === selected.value && x.width) ?? photos.value.find((x) => x.width)
    return p?.width && p.height ? p.width / p.height : 1.5
  })

  /** Ask again for what may have changed. */
  async function refresh(what: readonly Part[] = PARTS) {
    const wanted = id.value
    // each is shown as soon as it is there
    const mine = <T>(take: (data: T) => void) => {
      return (data: T) => {
        if (wanted === id.value) take(data)
      }
    }
    const fetches = {
      layers: () =>
        ask(api.GET('/api/projects/{project_id}/layers', path.value)).then(mine((l) => (layers.value = l))),
      project: () =>
        ask(api.GET('/api/projects/{project_id}', path.value)).then(
          mine((p) => ((project.value = p), (planned.value = p.planned))),
        ),
      photos: () =>
        ask(api.GET('/api/projects/{project_id}/photos', path.value)).then(mine((ph) => (photos.value = ph))),
    }
    await Promise.all(what.map((part) => fetches[part]()))
    if (wanted !== id.value) return
    if (!photos.value.some((x) => x.path === selected.value)) selected.value = photos.value[0]?.path ?? null
  }

  async function open(project_id: number) {
    if (id.value !== project_id) {
      id.value = project_id
      project.value = null
      layers.value = []
      photos.value = []
      selected.value = null
    }
    await refresh()
  }

  /** Run a layer from the versions in use, or everything up to it by the settings as they are; or on sparse points, for a first look. */
  const run = (name: string, everything = false, first_look = false) =>
    ask(
      api.POST('/api/projects/{project_id}/layers/{layer}/run', {
        params: { path: { project_id: id.value, layer: name }, query: { everything, first_look } },
      }),
    )

  async function setGrade(grade: 'rough' | 'dressed' | 'polished') {
    await ask(api.PATCH('/api/projects/{project_id}', { ...path.value, body: { grade } }))
    await refresh()
  }

  async function change(name: string, values: SettingsChange) {
    await ask(
      api.PUT('/api/projects/{project_id}/layers/{layer}/settings', {
        params: { path: { project_id: id.value, layer: name } },
        body: values,
      }),
    )
    await refresh()
  }

  /** Give a setting back to the grade. */
  async function reset(name: string, setting: string) {
    await ask(
      api.DELETE('/api/projects/{project_id}/layers/{layer}/settings/{name}', {
        params: { path: { project_id: id.value, layer: name, name: setting } },
      }),
    )
    await refresh()
  }

  async function use(name: string, number: number) {
    await ask(
      api.POST('/api/projects/{project_id}/layers/{layer}/use', {
        params: { path: { project_id: id.value, layer: name } },
        body: { number },
      }),
    )
    await refresh()
  }

  async function keep(paths: string[], kept: boolean, decided: string[] = []) {
    const body = { paths, kept, decided }
    await ask(api.PATCH('/api/projects/{project_id}/photos', { ...path.value, body }))
    await refresh()
  }

  return {
    id,
    project,
    layers,
    photos,
    selected,
    planned,
    path,
    metric,
    aspect,
    layer,
    version,
    open,
    refresh,
    run,
    setGrade,
    change,
    reset,
    use,
    keep,
  }
})
