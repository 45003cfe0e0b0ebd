// @vitest-environment node
import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import type { Patches, PlanIn, PlanOut } from '@/api/client'
import { paint, thinPatches } from '@/lib/paint'
import { draggedPlace, markedPatches, withMoved, without } from '@/lib/planWorld'

const out = {
  stations: [
    { number: 4, center: [0, -1, 0.5], rotation: [], ring: 0, role: 'lap' },
    { number: -1, center: [1, 1, 1], rotation: [], ring: 1, role: 'added' },
  ],
} as unknown as PlanOut
const plan = { moved: [[4, 9, 9, 9]], removed: [1], extra: [[1, 1, 1]] } as unknown as PlanIn

describe('cameras of a plan', () => {
  it('go along their ring when dragged, at their height and distance', () => {
    const ray = new THREE.Ray(new THREE.Vector3(3, 0, 5), new THREE.Vector3(0, 0, -1))
    expect(draggedPlace([0, -1, 0.5], ray, 'object')).toEqual([1, 0, 0.5])
    const level = new THREE.Ray(new THREE.Vector3(0, 0, 2), new THREE.Vector3(1, 0, 0))
    expect(draggedPlace([0, -1, 0.5], level, 'object')).toBeNull()
  })
  it('go along the wall of a wall, and over the ground of a place', () => {
    const ray = new THREE.Ray(new THREE.Vector3(2, -9, 1.2), new THREE.Vector3(0, 1, 0))
    expect(draggedPlace([0, -1, 0.5], ray, 'wall')).toEqual([2, -1, 1.2])
    const down = new THREE.Ray(new THREE.Vector3(3, 2, 5), new THREE.Vector3(0, 0, -1))
    expect(draggedPlace([0, -1, 0.5], down, 'room')).toEqual([3, 2, 0.5])
  })
  it('are kept by number, or as further shots', () => {
    expect(withMoved(plan, out, 0, [5, 6, 7]).moved).toEqual([[4, 5, 6, 7]])
    expect(withMoved(plan, out, 1, [5, 6, 7]).extra).toEqual([[5, 6, 7]])
    expect(without(plan, out, 0).removed).toEqual([1, 4])
    expect(without(plan, out, 1).extra).toEqual([])
  })
})

describe('painting', () => {
  const patches = {
    corners: [0, 0, 0, 3, 0, 0, 0, 3, 0, 9, 9, 9, 12, 9, 9, 9, 12, 9],
    count: [5, 5],
    light: [0, -2.5],
    wanted: [true, true],
  } as unknown as Patches
  it('marks the patches whose middle a ball holds', () => {
    expect(markedPatches(patches, [[1, 1, 0, 0.5]])).toEqual([true, false])
    expect(markedPatches(patches, [])).toEqual([false, false])
  })
  it('lists what fewer than three photos see, the worst first, with its side', () => {
    const thin = thinPatches({
      ...patches,
      corners: [0, 0, 0, 3, 0, 0, 0, 0, 3, 9, 9, 9, 12, 9, 9, 9, 12, 9, 50, 0, 0, 53, 0, 0, 50, 0, 3],
      count: [2, 0, 9],
      wanted: [true, true, true],
    })
    expect(thin.map((f) => [f.patch, f.photos, f.side])).toEqual([
      [1, 0, 'top'],
      [0, 2, 'front'],
    ])
  })
  it('shows what lies two stops in the dark as wrong', () => {
    const c = paint(patches, 'light')
    expect([...c.slice(3, 6)]).toEqual([166, 61, 47])
    expect([...c.slice(0, 3)]).not.toEqual([166, 61, 47])
  })
})
