/** What happens while a pointer that went down is moved, and when it is let go. */
export interface Drag {
  move: (e: PointerEvent) => void
  /** It was let go. */
  up?: (e: PointerEvent) => void
  /** It was taken away: by the system, by a second finger, by Escape. */
  cancel?: () => void
}

/** Follow a pointer from where it went down until it is let go, wherever it goes meanwhile. */
export function drag(begin: PointerEvent, { move, up, cancel }: Drag) {
  const over = new AbortController()
  const { signal } = over
  const mine = (e: PointerEvent) => e.pointerId === begin.pointerId
  window.addEventListener('pointermove', (e) => mine(e) && move(e), { signal })
  window.addEventListener(
    'pointerup',
    (e) => {
      if (!mine(e)) return
      over.abort()
      up?.(e)
    },
    { signal },
  )
  const gone = () => {
    over.abort()
    cancel?.()
  }
  window.addEventListener('pointercancel', (e) => mine(e) && gone(), { signal })
  window.addEventListener('keydown', (e) => e.key === 'Escape' && gone(), { signal })
}
