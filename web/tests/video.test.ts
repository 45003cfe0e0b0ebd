// @vitest-environment node
import { describe, expect, it } from 'vitest'
import { clock, nearest, stretches } from '@/lib/video'

describe('a video', () => {
  it('tells its time in minutes and seconds', () => {
    expect(clock(0)).toBe('0:00.0')
    expect(clock(9.96)).toBe('0:10.0')
    expect(clock(65.25)).toBe('1:05.3')
    expect(clock(-1)).toBe('0:00.0')
  })
  it('finds the picture nearest to a time', () => {
    expect(nearest([0, 1, 2, 5], -3)).toBe(0)
    expect(nearest([0, 1, 2, 5], 1.4)).toBe(1)
    expect(nearest([0, 1, 2, 5], 3.4)).toBe(2)
    expect(nearest([0, 1, 2, 5], 3.6)).toBe(3)
    expect(nearest([0, 1, 2, 5], 99)).toBe(3)
  })
})

describe('stretches', () => {
  it('joins neighbours that are not so, up to the next time', () => {
    expect(stretches([0, 1, 2, 3, 4], [true, false, false, true, false])).toEqual([
      [1, 3],
      [4, 4],
    ])
    expect(stretches([0, 1], [true, true])).toEqual([])
    expect(stretches([], [])).toEqual([])
  })
})
