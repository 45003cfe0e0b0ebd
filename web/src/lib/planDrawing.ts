/** A lap of a plan. */
export interface DrawnLap {
  rise_deg: number
  count: number
}

/** A shot in the drawing of a plan, and whether it stands before the subject. */
export interface DrawnShot {
  x: number
  y: number
  before: boolean
}

/** Middle and reach of the drawing (200 x 140), and how much a circle on the ground is flattened in it. */
const [X, Y, REACH, FLAT] = [100, 92, 84, 0.24]
/** Shots of a lap that are drawn at most. */
const MOST = 40

/** Where the shots of laps are drawn, as seen from a little above. */
export function shotsOf(laps: DrawnLap[]): DrawnShot[] {
  return laps.flatMap(({ rise_deg, count }) => {
    const e = (rise_deg * Math.PI) / 180
    const n = Math.min(count, MOST)
    return Array.from({ length: n }, (_, k) => {
      const turn = ((k + 0.5) / n) * 2 * Math.PI
      const depth = REACH * Math.cos(e) * Math.sin(turn) * FLAT
      return {
        x: X + REACH * Math.cos(e) * Math.cos(turn),
        y: Y + depth - REACH * Math.sin(e) * 0.85,
        before: depth > 0,
      }
    })
  })
}
