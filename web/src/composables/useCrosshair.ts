import { ref } from 'vue'
import { moved, type Place } from '@/lib/crosshair'

/** A cross that arrow keys move over what is drawn on, so that nothing there needs a pointer. Space sets it down. */
export function useCrosshair(on: {
  /** Width over height of the surface. */
  aspect: () => number
  set: (at: Place) => void
  moved?: (at: Place) => void
}) {
  const cross = ref<Place | null>(null)
  function press(e: KeyboardEvent) {
    if (e.ctrlKey || e.metaKey || e.altKey) return
    const here: Place = cross.value ?? [0.5, 0.5]
    const next = moved(here, e, on.aspect())
    if (next) {
      cross.value = next
      on.moved?.(next)
    } else if (e.key === ' ') {
      cross.value = here
      on.set(here)
    } else return
    e.preventDefault()
    e.stopPropagation()
  }
  return { cross, press, hide: () => (cross.value = null) }
}
