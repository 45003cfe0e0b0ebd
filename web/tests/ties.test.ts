import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { nearestTie, scaleWords } from '@/lib/ties'
import { cloudColors, cloudScale, readCloud, ramp } from '@/world/build'
import { fittingView } from '@/world/Eye'
import { facedBy, levelledBy, turnOf } from '@/world/level'
import { nearestPoint } from '@/world/pick'

const at = (...p: number[]) => new THREE.Vector3(...p)

describe('looking through a photo', () => {
  const photo = { rotation: null, center: null, width: 1000, height: 750, focal: 1000 }
  it('is as high as the photo where the view is wide', () => {
    expect(fittingView(photo, 2)).toBeCloseTo((2 * Math.atan(0.375) * 180) / Math.PI, 9)
  })
  it('is as wide as the photo where the view is narrow', () => {
    const half = Math.tan((fittingView(photo, 0.5) * Math.PI) / 360)
    expect(half * 0.5).toBeCloseTo(0.5, 9)
  })
})

describe('points pressed in the cloud', () => {
  const eye = new THREE.PerspectiveCamera(90, 1, 0.1, 100)
  eye.position.set(0, 0, 10)
  eye.updateMatrixWorld()
  const canvas = { getBoundingClientRect: () => ({ left: 0, top: 0, width: 200, height: 200 }) as DOMRect }
  const cloud = (...p: number[]) => {
    const g = new THREE.BufferGeometry()
    g.setAttribute('position', new THREE.BufferAttribute(new Float32Array(p), 3))
    return new THREE.Points(g)
  }
  const press = (points: THREE.Points) => nearestPoint(points, { clientX: 100, clientY: 100 }, canvas, eye)
  it('the one in front is meant, not one behind that is nearer to the pointer', () => {
    expect(press(cloud(0, 0, -5, 0.2, 0, 5))?.z).toBe(5)
  })
  it('none is meant where none is near, or only behind the eye', () => {
    expect(press(cloud(5, 5, 0, 0, 0, 20))).toBeNull()
  })
  it('three on the ground level it', () => {
    const turn = new THREE.Matrix4().makeRotationX(0.3).multiply(new THREE.Matrix4().makeRotationY(-0.2))
    const places = [at(0, 0, 0), at(1, 0, 0), at(0, 1, 0)].map((p) => p.applyMatrix4(turn))
    const up = at(0, 0, 1)
      .applyMatrix4(turn)
      .applyMatrix4(turnOf(levelledBy(places)))
    expect(up.z).toBeCloseTo(1, 6)
    expect(levelledBy([at(0, 0, 0), at(1, 1, 1), at(2, 2, 2)])).toEqual([])
  })
  it('an edge comes to the front by the shorter way', () => {
    expect(facedBy([at(0, 0, 0), at(1, 1, 5)])).toEqual([['z', -45]])
    expect(facedBy([at(1, -1, 0), at(0, 0, 0)])).toEqual([['z', 45]])
    expect(facedBy([at(0, 0, 0), at(0, 0, 1)])).toEqual([])
  })
})

describe('colours of a sparse cloud', () => {
  // two points: count, positions, colours, views, errors, deviations
  const data = new ArrayBuffer(4 + 2 * 16 + 16)
  new DataView(data).setUint32(0, 2, true)
  const floats = new DataView(data)
  ;[0.1, 0.4, 2, NaN].forEach((v, k) => floats.setFloat32(36 + 4 * k, v, true))
  it('error and precision are read and scaled, and what is not known counts as worst', () => {
    const cloud = readCloud(data)
    expect(Array.from(cloud.error!)).toEqual([Math.fround(0.1), Math.fround(0.4)])
    expect(cloudScale(cloud, 'error')?.range[1]).toBeCloseTo(0.4, 6)
    const colors = cloudColors(cloud, 'sigma')
    expect(Array.from(colors.slice(3))).toEqual(ramp(1))
  })
  it('a dense cloud tells pixel sizes and which way its points face', () => {
    const dense = new ArrayBuffer(36 + 2 * 13)
    const view = new DataView(dense)
    view.setUint32(0, 2, true)
    ;[0.0005, 0.001, 0.2, 0.4].forEach((v, k) => view.setFloat32(36 + 4 * k, v, true))
    new Int8Array(dense, 52, 6).set([127, 0, 0, 0, 0, -127])
    view.setInt16(58, 4, true)
    view.setInt16(60, 5, true)
    const cloud = readCloud(dense)
    expect(cloud.error).toBeUndefined()
    expect(Array.from(cloudColors(cloud, 'normal'))).toEqual([255, 128, 128, 128, 128, 1])
    expect(Array.from(cloud.sigma!)).toEqual([Math.fround(0.2), Math.fround(0.4)])
    const { range } = cloudScale(cloud, 'gsd')!
    expect(range[0]).toBeCloseTo(0.0005, 9)
    expect(Array.from(cloudColors(cloud, 'gsd').slice(0, 3))).toEqual(ramp(0))
    expect(scaleWords('gsd', range, true)).toContain('0.50 ▁▃▅▇ 1.00 mm')
    expect(scaleWords('gsd', range)).toContain('0.00050')
    const by = Array.from(cloudColors(cloud, 'photo'))
    expect(Math.hypot(by[0] - by[3], by[1] - by[4], by[2] - by[5])).toBeGreaterThan(60)
  })
  it('a cloud of an earlier version has none of these', () => {
    const cloud = readCloud(data.slice(0, 36))
    expect(cloud.error).toBeUndefined()
    expect(cloudColors(cloud, 'error')).toBe(cloud.colors)
  })
  it('the scale says its unit', () => {
    expect(scaleWords('error', [0, 0.315])).toContain('0.32 px')
    expect(scaleWords('views', [2, 12])).toContain('12+')
  })
})

describe('features in the photo', () => {
  it('the nearest within reach is meant', () => {
    const tied = [
      [10, 10, 0, 0],
      [14, 10, 0, 0],
    ]
    expect(nearestTie(tied, 13, 10, 5)).toEqual([14, 10, 0, 0])
    expect(nearestTie(tied, 100, 10, 5)).toBeNull()
  })
})
