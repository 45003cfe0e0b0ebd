// @vitest-environment node
import { describe, expect, it } from 'vitest'
import type { CameraOut } from '@/api/client'
import { sorted } from '@/lib/table'

const camera = (row: number, photo: string, error: number | null): CameraOut =>
  ({ row, photo, error, ties: 10 * row, state: 'placed', focal: 1 }) as CameraOut

describe('table of photos', () => {
  const all = [camera(0, 'p10.jpg', 0.3), camera(1, 'p9.jpg', null), camera(2, 'p2.jpg', 0.1)]
  const names = (by: 'photo' | 'error' | 'ties' | 'state', down = false) =>
    sorted(all, by, down).map((c) => c.photo)
  it('sorts names as people count, and numbers either way', () => {
    expect(names('photo')).toEqual(['p2.jpg', 'p9.jpg', 'p10.jpg'])
    expect(names('ties', true)).toEqual(['p2.jpg', 'p9.jpg', 'p10.jpg'])
  })
  it('puts photos without a value last either way', () => {
    expect(names('error')).toEqual(['p2.jpg', 'p10.jpg', 'p9.jpg'])
    expect(names('error', true)).toEqual(['p10.jpg', 'p2.jpg', 'p9.jpg'])
  })
  it('keeps the order of photos where values are the same', () => {
    expect(names('state')).toEqual(['p10.jpg', 'p9.jpg', 'p2.jpg'])
  })
})
