import * as THREE from 'three'

export type Axis = 'x' | 'y' | 'z'
/** A turn about an axis of the world, in degrees. */
export type LevelStep = [Axis, number]
export type Facing = 'front' | 'back' | 'left' | 'right' | 'top' | 'below'

/** Axis of the world along a straight-on line of sight, and whether it points away from the eye. */
const SIGHT: Record<Facing, [Axis, 1 | -1]> = {
  front: ['y', 1],
  back: ['y', -1],
  left: ['x', 1],
  right: ['x', -1],
  top: ['z', -1],
  below: ['z', 1],
}

/** The turn that shows as so many degrees clockwise to who looks from a side. */
export function clockwise(from: Facing, degrees: number): LevelStep {
  const [axis, sign] = SIGHT[from]
  return [axis, Math.round(sign * degrees * 1000) / 1000]
}

/** Degrees clockwise by which a line drawn on the screen (y down) must turn to be upright or level. */
export function straighten(dx: number, dy: number): number {
  const angle = (Math.atan2(dx, -dy) * 180) / Math.PI
  const off = angle - Math.round(angle / 90) * 90
  return off === 0 ? 0 : -off
}

/** Steps with one more; turns about one axis that follow each other are one. */
export function joined(steps: LevelStep[], [axis, degrees]: LevelStep): LevelStep[] {
  const last = steps.at(-1)
  if (last?.[0] !== axis) return [...steps, [axis, degrees]]
  const sum = Math.round((last[1] + degrees) * 1000) / 1000
  return sum ? [...steps.slice(0, -1), [axis, sum]] : steps.slice(0, -1)
}

const rounded = (degrees: number) => Math.round(degrees * 1000) / 1000

/** The turns that bring a plane through three places to the level. */
export function levelledBy(places: THREE.Vector3[]): LevelStep[] {
  const [a, b, c] = places
  const n = b.clone().sub(a).cross(c.clone().sub(a))
  if (n.length() < 1e-9) return []
  if (n.z < 0) n.negate()
  const about = Math.atan2(n.y, n.z)
  const then = Math.atan2(-n.x, Math.hypot(n.y, n.z))
  const steps: LevelStep[] = [
    ['x', rounded((about * 180) / Math.PI)],
    ['y', rounded((then * 180) / Math.PI)],
  ]
  return steps.filter(([, d]) => d)
}

/** The turn about the upright that brings an edge between two places to the front: along x, by the shorter way. */
export function facedBy(places: THREE.Vector3[]): LevelStep[] {
  const d = places[1].clone().sub(places[0])
  if (Math.hypot(d.x, d.y) < 1e-9) return []
  const angle = (-Math.atan2(d.y, d.x) * 180) / Math.PI
  const short = angle > 90 ? angle - 180 : angle < -90 ? angle + 180 : angle
  return short ? [['z', rounded(short)]] : []
}

/** All turns, one after the other, as one; with a place (as it was before them) over the origin afterwards. */
export function turnOf(steps: LevelStep[], center?: number[] | null): THREE.Matrix4 {
  const out = new THREE.Matrix4()
  for (const [axis, degrees] of steps) {
    const unit = new THREE.Vector3(+(axis === 'x'), +(axis === 'y'), +(axis === 'z'))
    out.premultiply(new THREE.Matrix4().makeRotationAxis(unit, (degrees * Math.PI) / 180))
  }
  if (center) {
    const at = new THREE.Vector3(...(center as [number, number, number])).applyMatrix4(out)
    out.premultiply(new THREE.Matrix4().makeTranslation(-at.x, -at.y, 0))
  }
  return out
}

/** A place moved by a matrix of 4 x 4, row by row. */
export function moved(rows: number[], [x, y, z]: number[]): [number, number, number] {
  const row = (k: number) => rows[4 * k] * x + rows[4 * k + 1] * y + rows[4 * k + 2] * z + rows[4 * k + 3]
  return [row(0), row(1), row(2)]
}
