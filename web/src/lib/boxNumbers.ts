import type { Box } from '@/world/build'

/** Units that lengths are told in, in metres. */
export const UNITS = { mm: 0.001, cm: 0.01, m: 1, in: 0.0254 } as const
export type Unit = keyof typeof UNITS

/** A keep box as people give it: sizes along its sides, where the middle of its foot is, and its turn in degrees. */
export interface BoxNumbers {
  width: number
  depth: number
  height: number
  x: number
  y: number
  z: number
  turn: number
}
export const FIELDS: (keyof BoxNumbers)[] = ['width', 'depth', 'height', 'x', 'y', 'z', 'turn']

export function numbersOf(box: Box, unit: number): BoxNumbers {
  const size = box.high.map((h, k) => (h - box.low[k]) / unit)
  const [u, v] = [0, 1].map((k) => (box.low[k] + box.high[k]) / 2 / unit)
  const [c, s] = [Math.cos(box.turn), Math.sin(box.turn)]
  return {
    width: size[0],
    depth: size[1],
    height: size[2],
    x: c * u - s * v,
    y: s * u + c * v,
    z: box.low[2] / unit,
    turn: (box.turn * 180) / Math.PI,
  }
}

/** The box that such numbers say; null where a side would have no length. */
export function boxOf(n: BoxNumbers, unit: number): Box | null {
  const size = [n.width, n.depth, n.height]
  if (![...Object.values(n)].every(Number.isFinite) || Math.min(...size) <= 0) return null
  const turn = (n.turn * Math.PI) / 180
  const [c, s] = [Math.cos(turn), Math.sin(turn)]
  const middle = [c * n.x + s * n.y, -s * n.x + c * n.y]
  const low = [middle[0] - n.width / 2, middle[1] - n.depth / 2, n.z].map((v) => v * unit)
  return { low, high: low.map((v, k) => v + size[k] * unit), turn }
}

/** The box that holds all points, whichever way it was turned. */
export function boxAround(positions: ArrayLike<number>): Box {
  const low = [Infinity, Infinity, Infinity]
  const high = [-Infinity, -Infinity, -Infinity]
  for (let i = 0; i < positions.length; i++) {
    low[i % 3] = Math.min(low[i % 3], positions[i])
    high[i % 3] = Math.max(high[i % 3], positions[i])
  }
  return { low, high, turn: 0 }
}
