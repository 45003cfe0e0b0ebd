// @vitest-environment node
import { describe, expect, it } from 'vitest'
import type { Photo } from '@/api/client'
import { digitsOf, ticks } from '@/lib/ticks'
import { markOf, ordered, pickedBy, rowsOf } from '@/lib/sheet'

const photos = 'abcdefg'.split('').map((path, k) => ({ path, set: k < 5 ? 'one' : 'two' }) as Photo)
const names = photos.map((p) => p.path)

describe('the contact sheet', () => {
  it('fills rows, and begins anew under each heading', () => {
    const plain = rowsOf(photos, 3, null)
    expect(plain.map((r) => (r.kind === 'photos' ? r.photos.map((p) => p.path).join('') : ''))).toEqual([
      'abc',
      'def',
      'g',
    ])
    const sets = rowsOf(photos, 3, new Set(['one']))
    expect(sets).toEqual([
      { kind: 'heading', set: 'one', count: 5, open: false },
      { kind: 'heading', set: 'two', count: 2, open: true },
      { kind: 'photos', photos: photos.slice(5) },
    ])
    expect(rowsOf([], 3, null)).toEqual([])
  })

  it('picks ranges with shift, and one more or less with ctrl', () => {
    const plain = { shift: false, ctrl: false }
    const shift = { shift: true, ctrl: false }
    const ctrl = { shift: false, ctrl: true }
    expect(pickedBy(names, ['a', 'b'], 'a', 'c', plain)).toEqual([])
    expect(pickedBy(names, [], 'e', 'b', shift)).toEqual(['b', 'c', 'd', 'e'])
    expect(pickedBy(names, ['a'], 'c', 'd', { shift: true, ctrl: true })).toEqual(['a', 'c', 'd'])
    // the photo that is looked at counts as the first of several
    expect(pickedBy(names, [], 'a', 'c', ctrl)).toEqual(['a', 'c'])
    expect(pickedBy(names, ['a', 'c'], 'c', 'a', ctrl)).toEqual(['c'])
    expect(pickedBy(names, [], null, 'c', shift)).toEqual([])
  })
})

describe('photos in order', () => {
  it('can be others than their own, or only some', () => {
    expect(ordered(photos)).toBe(photos)
    expect(ordered(photos, undefined, ['c', 'a', 'x']).map((p) => p.path)).toEqual(['a', 'c'])
    expect(ordered(photos, ['g', 'b'], ['a', 'b', 'g']).map((p) => p.path)).toEqual(['g', 'b', 'a'])
  })

  it('are marked by the gravest that is known of them', () => {
    const photo = (more: object) =>
      ({ kept: true, problem: null, judged: null, state: null, ...more }) as Photo
    const doubted = { judged: { proposal: 'look' } }
    expect(markOf(photo({}))).toBe('')
    expect(markOf(photo({ state: 'placed' }))).toBe('●')
    expect(markOf(photo({ state: 'placed', ...doubted }))).toBe('◇')
    expect(markOf(photo({ state: 'weak', judged: { proposal: 'keep' } }))).toBe('◐')
    expect(markOf(photo({ judged: { proposal: 'leave out' } }))).toBe('◆')
    expect(markOf(photo({ kept: false, ...doubted }))).toBe('⌀')
  })
})

describe('an axis', () => {
  it('is written at a few round places', () => {
    expect(ticks(0, 4.1)).toEqual([0, 2, 4])
    expect(ticks(0, 3950)).toEqual([0, 1000, 2000, 3000])
    expect(ticks(-0.9, 1).map((x) => Math.round(x * 10) / 10)).toEqual([-0.5, 0, 0.5, 1])
    expect(ticks(2, 2)).toEqual([2])
    for (const [low, high] of [
      [0, 0.003],
      [-7, 31],
      [0, 1e6],
    ]) {
      const places = ticks(low, high)
      expect(places.length).toBeGreaterThanOrEqual(2)
      expect(places.length).toBeLessThanOrEqual(5)
      expect(places.every((p) => p >= low - 1e-9 && p <= high + 1e-9)).toBe(true)
    }
    expect([digitsOf([0, 0.5]), digitsOf([0, 20]), digitsOf([0, 0.02])]).toEqual([1, 0, 2])
  })
})
