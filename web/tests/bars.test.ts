// @vitest-environment node
import { describe, expect, it } from 'vitest'
import { complete, known, marked, newBar } from '@/lib/bars'

describe('measured distances', () => {
  it('are named by letters that are free', () => {
    const a = newBar([])
    const b = newBar([a])
    expect([a.name, b.name]).toEqual(['A', 'B'])
    expect(newBar([b]).name).toBe('A')
  })
  it('are complete when both ends are marked in two photos and the length is typed', () => {
    let bars = [newBar([])]
    for (const end of ['a', 'b'] as const)
      for (const photo of ['1.jpg', '2.jpg']) bars = marked(bars, 0, end, photo, [3, 4])
    expect(complete(bars[0])).toBe(false)
    bars = [{ ...bars[0], length_mm: 120 }]
    expect(complete(bars[0])).toBe(true)
    bars = marked(bars, 0, 'b', '2.jpg', null)
    expect(known(bars[0], 'b')).toBe(false)
    expect(complete(bars[0])).toBe(false)
    expect(complete({ ...bars[0], b: { marks: {}, at: [0, 0, 1] } })).toBe(true)
  })
  it('are copied when they are marked, so that undo has the old ones', () => {
    const bars = [newBar([])]
    marked(bars, 0, 'a', '1.jpg', [1, 2])
    expect(bars[0].a.marks).toEqual({})
  })
})
