import { computed, ref, shallowRef, watch, type Ref } from 'vue'
import { api, ask, type Clearing, type ClearTerm, type ClearWay } from '@/api/client'
import { fetchBytes, Latest, Superseded } from '@/lib/latest'
import { pointStates, readBits, type Bits } from '@/lib/screen'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import type { World } from '@/world/World'
import { moveStep } from './useHistory'
import { useInTurn } from './useInTurn'

/** How a term is joined to what is chosen already; `new` begins afresh. */
export type Joining = 'new' | 'add' | 'take' | 'both'

/** A shape on the screen. */
export type ShapeWay = Extract<ClearWay, { kind: 'outline' | 'brush' }>

/** Choosing points of the cloud and clearing them away: the choice is the page's, the draft the server's. */
export function useClearing(world: Ref<World | null>, number: Ref<number | null>, budget: number) {
  const project = useProject()
  const jobs = useJobs()
  const draft = shallowRef<Clearing | null>(null)
  const terms = shallowRef<ClearTerm[]>([])
  const past = shallowRef<ClearTerm[][]>([])
  const future = shallowRef<ClearTerm[][]>([])
  const chosen = shallowRef<Bits | null>(null)
  const gone = shallowRef<Bits | null>(null)
  const joining = ref<Joining>('new')
  const latest = new Latest()
  const where = () => ({ path: project.path.params.path, query: { on: draft.value?.on, budget } })

  function show() {
    const n = world.value?.cloud?.views.length
    if (!n) return
    const mine = draft.value?.on === number.value
    world.value!.setPointStates(
      mine && (chosen.value || gone.value) ? pointStates(n, chosen.value, gone.value) : null,
    )
  }
  /** Ask again what the draft takes away, and what is chosen of the rest. */
  async function refresh() {
    const edits = draft.value?.done
    gone.value = edits
      ? readBits(
          await fetchBytes(
            `/api/v1/projects/${project.id}/points/gone?on=${draft.value!.on}&budget=${budget}`,
          ),
        )
      : null
    await choose()
  }
  /** Have the server work out what the terms choose. */
  async function choose() {
    if (!terms.value.length) {
      latest.giveUp()
      chosen.value = null
      return show()
    }
    try {
      const data = await latest.ask((signal) =>
        ask(
          api.POST('/api/v1/projects/{project_id}/points/select', {
            params: where(),
            body: { terms: terms.value },
            parseAs: 'arrayBuffer',
            signal,
          }),
          true,
        ),
      )
      chosen.value = readBits(data as unknown as ArrayBuffer)
    } catch (error) {
      if (!(error instanceof Superseded)) throw error
    }
    show()
  }
  function setTerms(next: ClearTerm[]) {
    past.value = [...past.value, terms.value]
    future.value = []
    terms.value = next
    return choose()
  }
  /** A term joined as is wanted at present, or by the keys held. */
  function add(way: ClearWay, held?: { shift: boolean; alt: boolean }) {
    const how: Joining =
      held?.shift && held.alt ? 'both' : held?.shift ? 'add' : held?.alt ? 'take' : joining.value
    const term = { ...way, how: how === 'new' ? 'add' : how } as ClearTerm
    return setTerms(how === 'new' ? [term] : [...terms.value, term])
  }
  const turnRound = () => setTerms([...terms.value, { kind: 'turn-round', how: 'add' }])
  const forget = () => setTerms([])
  function begin(now: Clearing) {
    draft.value = now
    terms.value = []
    past.value = future.value = []
  }
  const { waiting, act } = useInTurn<Clearing>(begin, refresh)

  async function fetchDraft() {
    if (number.value === null) return
    const now = await ask(api.GET('/api/v1/projects/{project_id}/points/draft', project.path))
    if (now.done === draft.value?.done && now.on === draft.value.on && now.left === draft.value.left) return
    begin(now)
    await refresh()
  }
  /** Have something found by the server, as a term. */
  async function find(
    what: 'color' | 'part' | 'strays' | 'plane' | 'front',
    at: [number, number, number] | null = null,
    within = 12,
    under: ShapeWay | null = null,
    held?: { shift: boolean; alt: boolean },
  ) {
    const body = { what, terms: terms.value, at, within, under: under && { ...under, how: 'add' as const } }
    const term = await ask(
      api.POST('/api/v1/projects/{project_id}/points/find', { params: where(), body }),
      true,
    )
    await add(term as unknown as ClearWay, held)
  }
  const remove = (keep: boolean) =>
    act(() =>
      ask(
        api.POST('/api/v1/projects/{project_id}/points/draft', {
          params: where(),
          body: { terms: terms.value, keep },
        }),
        true,
      ),
    )
  const move = (forth: boolean) =>
    act(async () => {
      await moveStep(project, 'points', forth)
      return ask(api.GET('/api/v1/projects/{project_id}/points/draft', project.path))
    })
  /** The last thing that was chosen, else the last that was deleted. */
  function undo(): Promise<void> {
    const before = past.value[past.value.length - 1]
    if (!before) return move(false)
    future.value = [...future.value, terms.value]
    past.value = past.value.slice(0, -1)
    terms.value = before
    return choose()
  }
  function redo(): Promise<void> {
    const after = future.value[future.value.length - 1]
    if (!after) return move(true)
    past.value = [...past.value, terms.value]
    future.value = future.value.slice(0, -1)
    terms.value = after
    return choose()
  }
  const giveUp = () =>
    act(() => ask(api.DELETE('/api/v1/projects/{project_id}/points/draft', project.path), true))
  const keep = () => ask(api.POST('/api/v1/projects/{project_id}/points/keep', project.path), true)
  const bringBack = () => ask(api.DELETE('/api/v1/projects/{project_id}/points/cleared', project.path), true)

  // another page may edit the same draft, and what is kept becomes another version
  watch([() => jobs.changes?.[String(project.id)]?.points, number], () => !waiting.value && fetchDraft())

  const canUndo = computed(() => !!past.value.length || !!draft.value?.done)
  const canRedo = computed(() => !!future.value.length || !!draft.value?.redo)
  return {
    draft, terms, chosen, joining, waiting, canUndo, canRedo, show, fetchDraft, add, setTerms, forget, turnRound,
    find, remove, undo, redo, giveUp, keep, bringBack,
  } // prettier-ignore
}
