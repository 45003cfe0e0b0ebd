import { computed, ref, shallowRef } from 'vue'
import { useSteps } from '@/composables/useSteps'
import type { Marks, Pixel } from '@/lib/bars'
import { useProject } from '@/stores/project'

/** A place that was picked in photos of several groups. */
export interface Place {
  name: string
  marks: Marks
}

/** A new place, named by a number that none has yet. */
export function newPlace(places: Place[]): Place {
  let n = places.length + 1
  while (places.some((p) => p.name === String(n))) n++
  return { name: String(n), marks: {} }
}

/** How many photos of each group show a place; `groupOf` is null for photos of none. */
export function shownIn(place: Place, groupOf: (photo: string) => number | null): Map<number, number> {
  const out = new Map<number, number>()
  for (const photo of Object.keys(place.marks)) {
    const group = groupOf(photo)
    if (group !== null) out.set(group, (out.get(group) ?? 0) + 1)
  }
  return out
}

/** Picking places that photos of two groups show, so that they are joined. */
export function usePlaces(photo: () => { width: number; height: number } | null) {
  const project = useProject()
  const picking = ref(false)
  const { items: places, before, begin, set, undo: stepBack } = useSteps<Place>()
  const active = ref(0)
  const kept = computed(() => (project.version('cameras')?.settings.places as Place[] | undefined) ?? [])
  const help = shallowRef(null)

  function open() {
    picking.value = true
    begin(kept.value.length ? kept.value : [newPlace([])])
    active.value = 0
  }
  function undo() {
    if (stepBack()) active.value = Math.max(0, Math.min(active.value, places.value.length - 1))
  }
  function add() {
    set([...places.value, newPlace(places.value)])
    active.value = places.value.length - 1
  }
  function remove(k: number) {
    set(places.value.filter((_, n) => n !== k))
    active.value = Math.max(0, Math.min(active.value, places.value.length - 1))
  }
  /** A click on the photo, in parts of its sides: the active place is there. Pixel centres are whole numbers. */
  function place(x: number, y: number) {
    const size = photo()
    const path = project.selected
    if (!picking.value || !path || !size || !places.value[active.value]) return
    const at: Pixel = [x * size.width - 0.5, y * size.height - 0.5]
    set(places.value.map((p, n) => (n === active.value ? { ...p, marks: { ...p.marks, [path]: at } } : p)))
  }
  /** All marks in the photo that is shown. */
  const here = computed(() =>
    !picking.value || !project.selected
      ? []
      : places.value.flatMap((p, k) => {
          const at = p.marks[project.selected!]
          return at ? [{ at, name: p.name, on: k === active.value }] : []
        }),
  )
  const close = () => (picking.value = false)
  async function apply() {
    picking.value = false
    // once joined there is one group
    const chosen = places.value.filter((p) => Object.keys(p.marks).length)
    await project.change('cameras', { places: chosen, group: 1 })
    await project.run('cameras')
  }
  return { picking, places, before, active, help, here, open, set, undo, add, remove, place, close, apply }
}

export type Places = ReturnType<typeof usePlaces>
