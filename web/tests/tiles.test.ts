// @vitest-environment node
import { describe, expect, it } from 'vitest'
import { tilesInView } from '@/lib/tiles'

const view = { room: [600, 400], size: [6000, 4000], zoom: 1, shift: [0, 0] }

describe('tiles of a large photo', () => {
  it('asks for none while the preview is fine enough', () => {
    expect(tilesInView(view)).toEqual([])
    expect(tilesInView({ ...view, size: [1000, 800], zoom: 20 })).toEqual([])
  })

  it('covers the whole pane, and no more than it, at 1:1', () => {
    const tiles = tilesInView({ ...view, zoom: 10 })
    expect(tiles.every((k) => k.level === 0)).toBe(true)
    // the middle 600 x 400 pixels of the photo: 2700..3300 across, 1800..2200 down
    expect(Math.min(...tiles.map((k) => k.left))).toBeLessThanOrEqual(2700)
    expect(Math.max(...tiles.map((k) => k.left + k.width))).toBeGreaterThanOrEqual(3300)
    expect(tiles.length).toBeLessThanOrEqual(6)
  })

  it('takes the level that is just fine enough', () => {
    // a quarter of full size is wanted: level 2
    expect(new Set(tilesInView({ ...view, zoom: 2.5 }).map((k) => k.level))).toEqual(new Set([2]))
    // a screen with two dots a pixel wants twice as much
    expect(new Set(tilesInView({ ...view, zoom: 2.5 }, 2).map((k) => k.level))).toEqual(new Set([1]))
  })

  it('follows the shift and ends at the edge of the photo', () => {
    const tiles = tilesInView({ ...view, zoom: 10, shift: [2700, 1800] })
    expect(Math.min(...tiles.map((k) => k.left))).toBe(0)
    const far = tilesInView({ ...view, zoom: 10, shift: [-2700, -1800] })
    expect(Math.max(...far.map((k) => k.left + k.width))).toBe(6000)
    expect(Math.max(...far.map((k) => k.top + k.height))).toBe(4000)
  })
})
