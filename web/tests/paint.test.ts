// @vitest-environment node
import { describe, expect, it } from 'vitest'
import type { Patches } from '@/api/client'
import { paint, project, scaleOf } from '@/lib/paint'

const patches: Patches = {
  corners: [],
  count: [0, 2, 7, 12, 5],
  gsd_mm: [null, 0.4, 0.2, 0.3, 0.2],
  angle: [90, 10, 10, 10, 10],
  widest: [0, 20, 60, 40, 30],
  light: [],
  sharp: [],
  wanted: [true, true, true, true, false],
}
const at = (colors: Uint8Array, k: number) => [...colors.subarray(3 * k, 3 * k + 3)]

describe('painting a plan', () => {
  it('marks what no photo sees in every mode, and leaves aside what is not wanted', () => {
    for (const mode of ['count', 'gsd', 'widest'] as const) {
      const colors = paint(patches, mode)
      expect(at(colors, 0)).toEqual([166, 61, 47])
      expect(at(colors, 4)).toEqual([206, 196, 178])
    }
  })

  it('is brighter where more photos see, where the sample is finer, where rays part wider', () => {
    const light = (mode: 'count' | 'gsd' | 'widest', k: number) => at(paint(patches, mode), k)[1]
    expect(light('count', 1)).toBeLessThan(light('count', 2))
    expect(light('count', 2)).toBeLessThan(light('count', 3))
    expect(light('gsd', 1)).toBeLessThan(light('gsd', 3))
    expect(light('gsd', 3)).toBeLessThan(light('gsd', 2))
    expect(light('widest', 1)).toBeLessThan(light('widest', 2))
  })

  it('has a scale with a unit', () => {
    expect(scaleOf(patches, 'gsd')).toEqual({ low: 0.2, high: 0.4, unit: ' mm' })
    expect(scaleOf(patches, 'count')).toMatchObject({ low: 2, high: 12 })
  })
})

describe('looking through a planned camera', () => {
  // a camera 2 in front of the origin (at y = -2) that looks along +y, image x = world x, image y down = world -z
  const station = {
    rotation: [
      [1, 0, 0],
      [0, 0, -1],
      [0, 1, 0],
    ],
    center: [0, -2, 0],
  }
  // facing -y, run anticlockwise as seen from there
  const facing = [-0.1, 0, 0, 0.1, 0, 0, 0, 0, 0.1]
  const away = [0.1, 1, 0, -0.1, 1, 0, 0, 1, 0.1]

  it('puts corners where a pinhole puts them and drops faces that turn away', () => {
    const seen = project({ corners: [...facing, ...away] }, station, 1000, [800, 600])
    expect(seen).toHaveLength(1)
    expect(seen[0].patch).toBe(0)
    expect(seen[0].at.map(Math.round)).toEqual([350, 300, 450, 300, 400, 250])
    expect(seen[0].depth).toBeCloseTo(2)
  })

  it('draws the farthest first and nothing behind the camera', () => {
    const far = facing.map((x, i) => (i % 3 === 1 ? 1 : x))
    const behind = facing.map((x, i) => (i % 3 === 1 ? -3 : x))
    const seen = project({ corners: [...facing, ...far, ...behind] }, station, 1000, [800, 600])
    expect(seen.map((s) => s.patch)).toEqual([1, 0])
  })
})
