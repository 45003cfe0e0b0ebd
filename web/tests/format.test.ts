import { describe, expect, it } from 'vitest'
import { bytes, count, metres, seconds } from '@/lib/format'
import { sentence } from '@/api/client'
import { cloudColors, packCloud, ramp, readCloud } from '@/world/build'

describe('numbers with units', () => {
  it('reads sizes', () => {
    expect(bytes(512)).toBe('512 B')
    expect(bytes(2_500_000)).toBe('2.5 MB')
    expect(count(1_840_000)).toBe('1.8 M')
    expect(seconds(150)).toBe('2 min 30 s')
    expect(seconds(null)).toBe('')
    expect(metres(0.0042)).toBe('4.2 mm')
    expect(metres(1.5)).toBe('1.50 m')
    expect(metres(1e6)).toBe('∞')
  })
})

describe('errors of the server', () => {
  it('come as its own sentence', () => {
    expect(sentence({ detail: 'The disk is full.' })).toBe('The disk is full.')
    expect(sentence({ detail: [{ loc: ['body', 'rings'], msg: 'too many' }] })).toBe('rings: too many')
    expect(sentence(null)).toMatch(/did not say/)
  })
})

describe('clouds', () => {
  const data = new ArrayBuffer(4 + 2 * 16)
  new DataView(data).setUint32(0, 2, true)
  new Float32Array(data, 4, 6).set([0, 0, 0, 1, 1, 5])
  new Uint8Array(data, 28, 8).set([10, 20, 30, 40, 50, 60, 2, 12])

  it('are read as packed', () => {
    const c = readCloud(data)
    expect([...c.positions]).toEqual([0, 0, 0, 1, 1, 5])
    expect([...c.views]).toEqual([2, 12])
    expect(cloudColors(c, 'color')).toBe(c.colors)
  })
  it('come back from packing', () => {
    expect([
      ...readCloud(
        packCloud([
          [1, 2, 3],
          [4, 5, 6],
        ]),
      ).positions,
    ]).toEqual([1, 2, 3, 4, 5, 6])
  })
  it('are coloured from one end of the ramp to the other', () => {
    const by = cloudColors(readCloud(data), 'height')
    expect([...by.slice(0, 3)]).toEqual(ramp(0).map(Math.floor))
    expect([...by.slice(3)]).toEqual(ramp(1).map(Math.floor))
  })
})
