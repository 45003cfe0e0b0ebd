// @vitest-environment node
import { expect, it } from 'vitest'
import { editOf, PURPOSES, thinned, TOOLS } from '@/lib/maskTools'

const square: [number, number][] = [
  [0.1, 0.1],
  [0.5, 0.1],
  [0.5, 0.5],
]

it('makes the edit that a drawn line stands for', () => {
  expect(editOf('brush', 'away', [[0.1, 0.2]], 0.02, false)).toEqual({
    kind: 'brush',
    points: [[0.1, 0.2]],
    radius: 0.02,
    add: false,
    hardness: 1,
  })
  expect(editOf('lasso', 'add', square, 0, true)).toMatchObject({ kind: 'outline', add: true, snap: true })
  expect(editOf('outline', 'grow', square, 0, true)).toMatchObject({ kind: 'grow', points: square })
  expect(editOf('outline', 'ignore', square, 0, true)).toMatchObject({
    part: 'ignore',
    add: false,
    snap: false,
  })
})

it('turns adding and taking away round while Alt is held', () => {
  expect(editOf('lasso', 'add', square, 0, false, true)).toMatchObject({ add: false })
  expect(editOf('brush', 'away', square, 0.1, false, true)).toMatchObject({ add: true })
})

it('makes nothing of too little, or of a tool that draws nothing', () => {
  expect(editOf('outline', 'add', square.slice(0, 2), 0, false)).toBeNull()
  expect(editOf('brush', 'add', [], 0.1, false)).toBeNull()
  expect(editOf('look', 'add', square, 0, false)).toBeNull()
})

it('leaves off places that lie on one another, and never sends too many', () => {
  expect(thinned([...square, [0.5, 0.5001]])).toEqual(square)
  const long: [number, number][] = Array.from({ length: 9000 }, (_, k) => [(k * 7) % 101, k])
  expect(thinned(long).length).toBe(5000)
})

it('offers for each tool what it can be used for', () => {
  for (const tool of TOOLS) expect(Array.isArray(PURPOSES[tool])).toBe(true)
  expect(PURPOSES.brush).not.toContain('grow')
})
