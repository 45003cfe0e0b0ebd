// @vitest-environment node
import { expect, it } from 'vitest'
import { bestShare } from '@/lib/panes'

it('a wide photo goes under a world, an upright one beside it', () => {
  expect(bestShare([772, 728], 3 / 2).side).toBe('under')
  expect(bestShare([772, 728], 2 / 3).side).toBe('beside')
  // two wide ones fit side by side below
  expect(bestShare([772, 728], 3 / 2, 2)).toEqual({ side: 'under', share: 772 / 2 / 1.5 / 728 })
})

it('takes no more than the photo needs, and leaves the world more than half', () => {
  const low = bestShare([2000, 400], 3 / 2)
  expect(low.side).toBe('beside')
  expect(low.share).toBeCloseTo((1.5 * 400) / 2000)
  for (const room of [
    [500, 900],
    [900, 500],
    [1400, 1000],
  ] as [number, number][])
    for (const aspect of [0.4, 0.75, 1, 1.5, 3]) {
      const { share } = bestShare(room, aspect)
      expect(share).toBeGreaterThanOrEqual(0.25)
      expect(share).toBeLessThanOrEqual(0.45)
    }
})

it('is sensible while nothing is known yet', () => {
  expect(bestShare([0, 0], 1.5)).toEqual({ side: 'beside', share: 0.35 })
  expect(bestShare([800, 600], NaN).share).toBe(0.35)
})
