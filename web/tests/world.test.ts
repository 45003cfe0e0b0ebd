// @vitest-environment node
import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { draggedBox } from '@/world/boxDrag'
import { clockwise, joined, moved, straighten, turnOf } from '@/world/level'
import { Lighter, nextBudget } from '@/world/Lighter'
import { nearestCamera } from '@/world/pick'
import { Shown } from '@/world/Shown'

const turned = (v: number[], steps: Parameters<typeof turnOf>[0]) =>
  new THREE.Vector3(...(v as [number, number, number]))
    .applyMatrix4(turnOf(steps))
    .toArray()
    .map((x) => Math.round(x * 1e6) / 1e6 + 0)

describe('levelling by hand', () => {
  it('puts a place over the origin after all turns, at its height', () => {
    const at = new THREE.Vector3(3, 1, 2).applyMatrix4(turnOf([['z', 90]], [3, 1, 2]))
    expect(at.x).toBeCloseTo(0)
    expect(at.y).toBeCloseTo(0)
    expect(at.z).toBeCloseTo(2)
    const other = new THREE.Vector3(3, 0, 0).applyMatrix4(turnOf([['z', 90]], [3, 1, 2]))
    expect([other.x, other.y, other.z].map(Math.round)).toEqual([1, 0, 0])
  })
  it('tells a place in another frame, by a matrix row by row', () => {
    expect(moved([0, -2, 0, 1, 2, 0, 0, 2, 0, 0, 2, 3, 0, 0, 0, 1], [1, 2, 3])).toEqual([-3, 4, 9])
  })
  it('turns about the axes of the world, right-handed, first step first', () => {
    expect(turned([1, 0, 0], [['z', 90]])).toEqual([0, 1, 0])
    expect(turned([0, 1, 0], [['x', 90]])).toEqual([0, 0, 1])
    expect(turned([0, 0, 1], [['y', 90]])).toEqual([1, 0, 0])
    expect(
      turned(
        [1, 0, 0],
        [
          ['z', 90],
          ['x', 90],
        ],
      ),
    ).toEqual([0, 0, 1])
  })

  it('a turn clockwise tips what is upright to the right of who looks', () => {
    // from the front right is +x, from the right side +y, from behind -x
    expect(turned([0, 0, 1], [clockwise('front', 90)])).toEqual([1, 0, 0])
    expect(turned([0, 0, 1], [clockwise('right', 90)])).toEqual([0, 1, 0])
    expect(turned([0, 0, 1], [clockwise('back', 90)])).toEqual([-1, 0, 0])
    expect(turned([0, 0, 1], [clockwise('left', 90)])).toEqual([0, -1, 0])
    // from the top, up on the screen is +y and right +x
    expect(turned([0, 1, 0], [clockwise('top', 90)])).toEqual([1, 0, 0])
  })

  it('joins turns about one axis, and forgets those that cancel', () => {
    expect(joined([['y', 1]], ['y', 1.5])).toEqual([['y', 2.5]])
    expect(joined([['y', 1]], ['x', 1])).toHaveLength(2)
    expect(joined([['y', 1]], ['y', -1])).toEqual([])
  })

  it('makes a drawn line upright or level, whichever is nearer', () => {
    expect(straighten(0, -50)).toBe(0)
    expect(straighten(10, -100)).toBeCloseTo(-5.711, 2)
    expect(straighten(-10, 100)).toBeCloseTo(-5.711, 2)
    expect(straighten(100, 10)).toBeCloseTo(-5.711, 2)
    expect(straighten(100, -10)).toBeCloseTo(5.711, 2)
  })
})

describe('drawing less while the view moves', () => {
  it('draws fewer points when a frame was slow, more when it was quick, and never none', () => {
    expect(nextBudget(1e6, 400, 100)).toBe(250_000)
    expect(nextBudget(200_000, 50, 100)).toBe(300_000)
    expect(nextBudget(20_000, 1e6, 100)).toBe(20_000)
  })

  it('adds every point once when the view rests', () => {
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(new Float32Array(3 * 500_000), 3))
    const lighter = new Lighter()
    lighter.addCloud(new THREE.Points(geometry))
    lighter.prepare(true, 1000)
    lighter.learn(1000, true, 2000)
    expect(lighter.still(2100)).toBe(false)
    lighter.prepare(true, 2100)
    expect(geometry.drawRange.count).toBeLessThan(60_000)
    expect(lighter.reduced).toBe(true)
    expect(lighter.still(3000)).toBe(true)
    let to = geometry.drawRange.count
    while (lighter.slice()) {
      expect(geometry.drawRange.start).toBe(to)
      to += geometry.drawRange.count
    }
    expect(to).toBe(500_000)
    expect(lighter.reduced).toBe(false)
  })
})

describe('keep box', () => {
  const box = { low: [-1, -1, 0], high: [1, 1, 2], turn: Math.PI / 2 }

  it('a face follows the pointer along its own axis, turned with the box', () => {
    // axis 0 of the box points along +y of the world; the ray comes down at y = 3
    const ray = new THREE.Ray(new THREE.Vector3(0, 3, 10), new THREE.Vector3(0, 0, -1))
    const next = draggedBox(box, 0, 1, ray)
    expect(next.high[0]).toBeCloseTo(3)
    expect(next.low).toEqual(box.low)
    expect(box.high[0]).toBe(1)
  })

  it('a face is not pushed through the opposite one', () => {
    const ray = new THREE.Ray(new THREE.Vector3(10, 0, -5), new THREE.Vector3(-1, 0, 0))
    const next = draggedBox(box, 2, 1, ray)
    expect(next.high[2]).toBeGreaterThan(next.low[2])
  })
})

describe('picking', () => {
  const eye = new THREE.PerspectiveCamera(60, 1, 0.1, 100)
  eye.position.set(0, 0, 10)
  eye.updateMatrixWorld()
  const canvas = { getBoundingClientRect: () => ({ left: 0, top: 0, width: 400, height: 400 }) as DOMRect }
  const at = (row: number, center: number[] | null) => ({ row, center }) as never

  it('takes the camera whose apex is nearest to the pointer, and none that is far or not placed', () => {
    const cameras = [at(0, [0, 0, 0]), at(1, [1, 0, 0]), at(2, null), at(3, [0, 0, 20])]
    expect(nearestCamera(cameras, { clientX: 204, clientY: 200 }, canvas, eye)).toBe(0)
    expect(nearestCamera(cameras, { clientX: 230, clientY: 200 }, canvas, eye)).toBe(1)
    expect(nearestCamera(cameras, { clientX: 350, clientY: 350 }, canvas, eye)).toBeNull()
  })
})

describe('looking through a camera', () => {
  it('hides the cameras, and shows them again only where they were not hidden before', () => {
    const parts = { cameras: new THREE.Group(), cloud: new THREE.Group() }
    const shown = new Shown(parts)
    const cameras = () => parts.cameras.visible
    shown.from('cameras', true)
    expect(cameras()).toBe(false)
    shown.from('cameras', false)
    expect(cameras()).toBe(true)
    shown.show('cameras', false)
    shown.from('cameras', true)
    shown.from('cameras', false)
    expect(cameras()).toBe(false)
    expect([shown.shows('cameras'), shown.shows('cloud')]).toEqual([false, true])
    shown.from('cameras', true)
    shown.show('cameras', true)
    expect(cameras()).toBe(false)
    expect(parts.cloud.visible).toBe(true)
  })
})
