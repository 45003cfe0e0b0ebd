import { CancelledError, QueryClient, useQuery } from '@tanstack/vue-query'
import { defineStore } from 'pinia'
import { computed, inject, ref, watch, type InjectionKey } from 'vue'
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

/** What was fetched, by project and part. Nothing is asked for again but by `refresh`: the server says what has changed. */
export const fetched = new QueryClient({
  defaultOptions: {
    queries: {
      retry: false,
      staleTime: Infinity,
      gcTime: Infinity,
      refetchOnWindowFocus: false,
      refetchOnReconnect: false,
      networkMode: 'always',
    },
  },
})

/** An answer, and what it says of the change that it made. */
interface Changed<T> {
  data?: T
  error?: unknown
  response: Response
}

/** A project: its layers and photos. Its number never changes: what was asked for one project cannot reach another. */
function define(id: number) {
  return defineStore(`project ${id}`, () => {
    const path = { params: { path: { project_id: id } } }

    /** What the server tells of a part: an older answer never replaces a newer one. */
    function part<T>(name: Part, empty: T) {
      const queryKey = ['project', id, name]
      // asked for by `refresh` alone
      const query = useQuery({ queryKey, enabled: false, shallow: true }, fetched)
      return computed<T>({
        get: () => (query.data.value as T | undefined) ?? empty,
        set: (value) => void fetched.setQueryData(queryKey, value),
      })
    }
    const fetches = {
      layers: (signal: AbortSignal) =>
        ask(api.GET('/api/v1/projects/{project_id}/layers', { ...path, signal })),
      project: (signal: AbortSignal) => ask(api.GET('/api/v1/projects/{project_id}', { ...path, signal })),
      photos: (signal: AbortSignal) =>
        ask(api.GET('/api/v1/projects/{project_id}/photos', { ...path, signal })),
    }
    const project = part<Project | null>('project', null)
    const layers = part<Layer[]>('layers', [])
    const photos = part<Photo[]>('photos', [])
    const selected = ref<string | null>(null)
    /** Shots of its plan, as last counted: the plan itself counts them as it is changed. */
    const planned = ref(0)
    watch(project, (now) => (planned.value = now?.planned ?? 0), { immediate: true })

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

    watch(photos, (now) => {
      if (!now.some((x) => x.path === selected.value)) selected.value = now[0]?.path ?? null
    })

    /** Ask again for what may have changed; what is being asked already is older than that, and given up. */
    async function refresh(what: readonly Part[] = PARTS) {
      await Promise.all(
        what.map(async (name) => {
          const queryKey = ['project', id, name]
          await fetched.cancelQueries({ queryKey }, { silent: true })
          await fetched
            .fetchQuery({
              queryKey,
              queryFn: ({ signal }) => fetches[name](signal) as Promise<unknown>,
              staleTime: 0,
            })
            .catch((error: unknown) => {
              // a newer request has taken its place, and brings what was wanted here too
              if (!(error instanceof CancelledError)) throw error
            })
        }),
      )
    }

    /** Counts of changes that this page made itself, and has asked about. */
    const own = new Map<string, number>()
    let last: Promise<unknown> = Promise.resolve()
    /** Change something, after all that was asked for before; then ask again for what that touches. */
    function change<T>(request: () => Promise<Changed<T>>): Promise<T> {
      const mine = last.then(async () => {
        const answer = request()
        const data = await ask(answer, true)
        const [name, count] = ((await answer).response.headers.get('X-Changed') ?? '').split(' ')
        if (count) own.set(name, Number(count))
        await refresh(name ? (ASKED[name] ?? PARTS) : PARTS)
        return data
      })
      last = mine.catch(() => undefined)
      return mine
    }
    /** Parts to be asked for again between two counts of changes: not what this page changed last itself. */
    function changedElsewhere(now: Record<string, number> = {}, before: Record<string, number> = {}) {
      const others = Object.entries(now).filter(([k, n]) => n > Math.max(before[k] ?? 0, own.get(k) ?? 0))
      return partsChanged(Object.fromEntries(others), {})
    }

    /** Run a layer from the versions in use, or everything up to it by the settings as they are; or on sparse points, for a first look. */
    const run = (name: string, everything = false, first_look = false) =>
      last.then(() =>
        ask(
          api.POST('/api/v1/projects/{project_id}/layers/{layer}/run', {
            params: { path: { project_id: id, layer: name }, query: { everything, first_look } },
          }),
        ),
      )
    const setGrade = (grade: 'rough' | 'dressed' | 'polished') =>
      change(() => api.PATCH('/api/v1/projects/{project_id}', { ...path, body: { grade } }))
    const changeSettings = (name: string, values: SettingsChange) =>
      change(() =>
        api.PUT('/api/v1/projects/{project_id}/layers/{layer}/settings', {
          params: { path: { project_id: id, layer: name } },
          body: values,
        }),
      )
    /** Give a setting back to the grade. */
    const reset = (name: string, setting: string) =>
      change(() =>
        api.DELETE('/api/v1/projects/{project_id}/layers/{layer}/settings/{name}', {
          params: { path: { project_id: id, layer: name, name: setting } },
        }),
      )
    const use = (name: string, number: number) =>
      change(() =>
        api.POST('/api/v1/projects/{project_id}/layers/{layer}/use', {
          params: { path: { project_id: id, layer: name } },
          body: { number },
        }),
      )
    const keep = (paths: string[], kept: boolean, decided: string[] = []) =>
      change(() =>
        api.PATCH('/api/v1/projects/{project_id}/photos', { ...path, body: { paths, kept, decided } }),
      )

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
      refresh,
      changedElsewhere,
      run,
      setGrade,
      does: change,
      change: changeSettings,
      reset,
      use,
      keep,
    }
  })
}

const defined = new Map<number, ReturnType<typeof define>>()

/** The project of a number. */
export function projectOf(id: number) {
  const one = defined.get(id) ?? define(id)
  defined.set(id, one)
  return one()
}

/** Number of the project that a part of the page is about. */
export const PROJECT: InjectionKey<number> = Symbol('project')

/** The project that this part of the page is about, now and whenever something it asked for comes back. */
export function useProject() {
  const id = inject(PROJECT, undefined)
  if (id === undefined) throw new Error('this part of the page is about no project')
  return projectOf(id)
}
