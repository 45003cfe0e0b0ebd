/** A shape in pixels of a surface as the server wants it: -1 to 1 over width and height, y up. */
export function toClip(shape: number[][], width: number, height: number): [number, number][] {
  return shape.map(([x, y]) => [(2 * x) / width - 1, 1 - (2 * y) / height])
}

/** What draws on the screen: a rectangle, straight sides from corner to corner, freehand, a round brush. */
export type ShapeTool = 'rectangle' | 'outline' | 'lasso' | 'brush'

/** How a shape goes on when the pointer comes to another place. */
export function drawnTo(tool: ShapeTool, shape: number[][], at: number[]): number[][] {
  if (!shape.length) return [at]
  if (tool === 'rectangle') {
    const [a] = shape
    return [a, [at[0], a[1]], at, [a[0], at[1]]]
  }
  const last = shape[shape.length - 1]
  // a hand at rest sends the same place again and again
  return Math.hypot(at[0] - last[0], at[1] - last[1]) < 1 ? shape : [...shape, at]
}

/** Whether a shape holds anything. */
export const isWhole = (tool: ShapeTool, shape: number[][]) => shape.length >= (tool === 'brush' ? 1 : 3)

/** Bits as the server packs them (two counts, then the lowest bit of each byte first). */
export interface Bits {
  count: number
  of: number
  at: (k: number) => boolean
}

export function readBits(data: ArrayBuffer): Bits {
  const head = new DataView(data)
  const bits = new Uint8Array(data, 8)
  return {
    count: head.getUint32(0, true),
    of: head.getUint32(4, true),
    at: (k) => ((bits[k >> 3] >> (k & 7)) & 1) === 1,
  }
}

/** State of each point: as it is, chosen, or gone. */
export function pointStates(n: number, chosen: Bits | null, gone: Bits | null): Uint8Array {
  const out = new Uint8Array(n)
  for (let k = 0; k < n; k++) out[k] = gone?.at(k) ? 2 : chosen?.at(k) ? 1 : 0
  return out
}
