/** A place on a surface that is drawn on, in shares of its sides. */
export type Place = [number, number]

/** Steps of the arrow keys as a share of the surface's width; with Shift ten times as far. */
const STEP = 0.004

/** Where arrow keys take a place to; null for any other key. It stays on the surface. */
export function moved(at: Place, e: Pick<KeyboardEvent, 'key' | 'shiftKey'>, aspect: number): Place | null {
  const by = STEP * (e.shiftKey ? 10 : 1)
  const step = {
    ArrowLeft: [-by, 0],
    ArrowRight: [by, 0],
    ArrowUp: [0, -by * aspect],
    ArrowDown: [0, by * aspect],
  }[e.key]
  if (!step) return null
  const within = (x: number) => Math.min(1, Math.max(0, x))
  return [within(at[0] + step[0]), within(at[1] + step[1])]
}
