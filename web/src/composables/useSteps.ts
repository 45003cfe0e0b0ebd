import { shallowRef } from 'vue'

/** A list that is changed in steps, each of which can be undone. */
export function useSteps<T>() {
  const items = shallowRef<T[]>([])
  const before = shallowRef<T[][]>([])
  function begin(kept: T[]) {
    before.value = []
    items.value = kept
  }
  function set(next: T[]) {
    before.value = [...before.value, items.value]
    items.value = next
  }
  /** Back by one step; whether there was one. */
  function undo(): boolean {
    const last = before.value[before.value.length - 1]
    if (!last) return false
    items.value = last
    before.value = before.value.slice(0, -1)
    return true
  }
  return { items, before, begin, set, undo }
}
