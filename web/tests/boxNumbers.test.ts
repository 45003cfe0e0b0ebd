// @vitest-environment node
import { expect, it } from 'vitest'
import { boxAround, boxOf, numbersOf } from '@/lib/boxNumbers'

const box = { low: [-0.1, 0.2, -0.05], high: [0.3, 0.4, 0.55], turn: Math.PI / 6 }

it('numbers and box say the same', () => {
  const n = numbersOf(box, 0.001)
  expect(n.width).toBeCloseTo(400, 9)
  expect(n.height).toBeCloseTo(600, 9)
  expect(n.turn).toBeCloseTo(30, 9)
  const back = boxOf(n, 0.001)!
  back.low.forEach((v, k) => expect(v).toBeCloseTo(box.low[k], 12))
  back.high.forEach((v, k) => expect(v).toBeCloseTo(box.high[k], 12))
})
it('the middle of the foot is where it is in the world, and stays there when the box turns', () => {
  const n = numbersOf(box, 1)
  // (0.1, 0.3) along the own axes, which are turned by 30 degrees
  expect(n.x).toBeCloseTo(0.1 * Math.cos(Math.PI / 6) - 0.3 * Math.sin(Math.PI / 6), 12)
  expect(n.y).toBeCloseTo(0.1 * Math.sin(Math.PI / 6) + 0.3 * Math.cos(Math.PI / 6), 12)
  const turned = numbersOf(boxOf({ ...n, turn: -70 }, 1)!, 1)
  expect([turned.x, turned.y, turned.z]).toEqual([n.x, n.y, n.z].map((v) => expect.closeTo(v, 12)))
})
it('a side without length is no box', () => {
  expect(boxOf({ ...numbersOf(box, 1), width: 0 }, 1)).toBeNull()
  expect(boxOf({ ...numbersOf(box, 1), x: NaN }, 1)).toBeNull()
})
it('a box about everything holds every point', () => {
  expect(boxAround([1, 2, 3, -1, 5, 0])).toEqual({ low: [-1, 2, 0], high: [1, 5, 3], turn: 0 })
})
