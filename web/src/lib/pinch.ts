/** How two fingers changed: how much farther apart they are, where their middle is in the window, how far it moved. */
export interface Pinched {
  by: number
  middle: [number, number]
  moved: [number, number]
}

/** Follow two fingers on a surface; what the first of them had begun alone is taken away from it. Gives what ends it. */
export function pinch(host: HTMLElement, change: (now: Pinched) => void): () => void {
  const fingers = new Map<number, [number, number]>()
  const over = new AbortController()
  const { signal } = over
  let ours = false

  function down(e: PointerEvent) {
    if (e.pointerType !== 'touch') return
    fingers.set(e.pointerId, [e.clientX, e.clientY])
    if (fingers.size < 2) return
    e.stopPropagation()
    ours = true
    for (const pointerId of fingers.keys())
      window.dispatchEvent(new PointerEvent('pointercancel', { pointerId }))
    ours = false
  }
  function move(e: PointerEvent) {
    const before = fingers.get(e.pointerId)
    if (!before) return
    const now: [number, number] = [e.clientX, e.clientY]
    fingers.set(e.pointerId, now)
    if (fingers.size !== 2) return
    const other = [...fingers].find(([id]) => id !== e.pointerId)![1]
    const apart = (p: [number, number]) => Math.max(1, Math.hypot(p[0] - other[0], p[1] - other[1]))
    change({
      by: apart(now) / apart(before),
      middle: [(now[0] + other[0]) / 2, (now[1] + other[1]) / 2],
      moved: [(now[0] - before[0]) / 2, (now[1] - before[1]) / 2],
    })
  }
  const gone = (e: PointerEvent) => ours || fingers.delete(e.pointerId)
  host.addEventListener('pointerdown', down, { signal, capture: true })
  window.addEventListener('pointermove', move, { signal })
  window.addEventListener('pointerup', gone, { signal })
  window.addEventListener('pointercancel', gone, { signal })
  return () => over.abort()
}
