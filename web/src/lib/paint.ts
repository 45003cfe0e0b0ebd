import type { Patches } from '@/api/client'
import { ramp } from '@/world/build'

export type PaintMode = 'count' | 'gsd' | 'widest' | 'light' | 'focus'
type Rgb = [number, number, number]

/** What is wrong, and what is not looked at, in 0..255. */
const WRONG: Rgb = [166, 61, 47]
const ASIDE: Rgb = [206, 196, 178]

/** Stops below the median at which a patch holds no features. */
const DARK = -2

export interface Scale {
  low: number
  high: number
  unit: string
}

/** Ends of the colour scale of a mode: two photos are always dark, so that what is thin shows. */
export function scaleOf(patches: Patches, mode: PaintMode): Scale {
  if (mode === 'count') {
    const sorted = patches.count.filter((_, k) => patches.wanted[k]).sort((a, b) => a - b)
    return { low: 2, high: Math.max(12, sorted[Math.floor(0.95 * (sorted.length - 1))] ?? 0), unit: '' }
  }
  if (mode === 'light') return { low: -3, high: 2, unit: ' EV' }
  if (mode === 'focus') return { low: 0, high: 1, unit: '' }
  if (mode === 'widest') return { low: 0, high: 60, unit: '°' }
  const known = patches.gsd_mm.filter((g, k): g is number => g !== null && patches.wanted[k])
  const low = Math.min(...known)
  return { low, high: Math.max(...known, low * 1.01), unit: ' mm' }
}

/** Colour of each patch, three numbers 0..255 a patch. Bright is good in every mode. */
export function paint(patches: Patches, mode: PaintMode): Uint8Array {
  const scale = scaleOf(patches, mode)
  const out = new Uint8Array(patches.count.length * 3)
  const along = (x: number) => (x - scale.low) / (scale.high - scale.low)
  for (let k = 0; k < patches.count.length; k++) {
    let color: Rgb
    if (!patches.wanted[k]) color = ASIDE
    else if (mode === 'light') color = patches.light[k] < DARK ? WRONG : ramp(along(patches.light[k]))
    else if (patches.count[k] === 0) color = WRONG
    else if (mode === 'focus') color = patches.sharp[k] ? ramp(0.85) : ramp(0.1)
    else if (mode === 'count') color = ramp(along(patches.count[k]))
    else if (mode === 'widest') color = ramp(along(patches.widest[k]))
    else color = ramp(1 - along(patches.gsd_mm[k]!))
    out.set(color, 3 * k)
  }
  return out
}

/** Places on a photo of the corners of patches that face it, with their distance, farthest patch first. */
export function project(
  patches: Pick<Patches, 'corners'>,
  station: { rotation: number[][]; center: number[] },
  focal: number,
  size: [number, number],
): { patch: number; depth: number; at: number[] }[] {
  const [r, c] = [station.rotation, station.center]
  const out = []
  for (let k = 0; k * 9 < patches.corners.length; k++) {
    const at: number[] = []
    let depth = 0
    for (let i = 0; i < 3; i++) {
      const d = [0, 1, 2].map((j) => patches.corners[9 * k + 3 * i + j] - c[j])
      const [x, y, z] = r.map((row) => row[0] * d[0] + row[1] * d[1] + row[2] * d[2])
      if (z <= 1e-6) break
      at.push(size[0] / 2 + (focal * x) / z, size[1] / 2 + (focal * y) / z)
      depth += z / 3
    }
    if (at.length < 6) continue
    // faces that turn away run the other way round on the photo
    const turned = (at[2] - at[0]) * (at[5] - at[1]) - (at[3] - at[1]) * (at[4] - at[0])
    if (turned < 0) out.push({ patch: k, depth, at })
  }
  return out.sort((a, b) => b.depth - a.depth)
}

export interface Thin {
  patch: number
  photos: number
  at: [number, number, number]
  side: 'front' | 'right' | 'back' | 'left' | 'top' | 'below'
}

/** Patches that fewer than three photos see, the worst first, one for each neighbourhood. */
export function thinPatches(patches: Patches, most = 40): Thin[] {
  const p = patches.corners
  const found: Thin[] = []
  for (let k = 0; k < patches.count.length; k++) {
    if (!patches.wanted[k] || patches.count[k] >= 3) continue
    const v = (i: number, j: number) => p[9 * k + 3 * i + j]
    const at = [0, 1, 2].map((j) => (v(0, j) + v(1, j) + v(2, j)) / 3) as [number, number, number]
    const a = [0, 1, 2].map((j) => v(1, j) - v(0, j))
    const b = [0, 1, 2].map((j) => v(2, j) - v(0, j))
    const n = [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
    const axis = [0, 1, 2].reduce((m, j) => (Math.abs(n[j]) > Math.abs(n[m]) ? j : m), 0)
    const side = (n[axis] > 0 ? (['right', 'back', 'top'] as const) : (['left', 'front', 'below'] as const))[
      axis
    ]
    found.push({ patch: k, photos: patches.count[k], at, side })
  }
  found.sort((x, y) => x.photos - y.photos)
  const low = Math.min(...found.map((f) => Math.min(...f.at)))
  const high = Math.max(...found.map((f) => Math.max(...f.at)))
  const apart = 0.12 * Math.max(high - low, 1e-6)
  const out: Thin[] = []
  for (const f of found)
    if (out.length < most && out.every((o) => Math.hypot(...o.at.map((x, j) => x - f.at[j])) > apart))
      out.push(f)
  return out
}
