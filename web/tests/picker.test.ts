// @vitest-environment node
import * as THREE from 'three'
import { MeshBVH } from 'three-mesh-bvh'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { plainPositions } from '@/world/loadMesh'
import { Picker } from '@/world/Picker'

/** A worker that makes the tree as the real one does, when it is asked to answer. */
class Fake {
  static all: Fake[] = []
  onmessage: ((e: { data: unknown }) => void) | null = null
  onerror: (() => void) | null = null
  asked: { index: Uint32Array; positions: Float32Array } | null = null
  ended = false
  constructor() {
    Fake.all.push(this)
  }
  postMessage(asked: { index: Uint32Array; positions: Float32Array }) {
    this.asked = asked
  }
  terminate() {
    this.ended = true
  }
  answer() {
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(this.asked!.positions, 3))
    geometry.setIndex(new THREE.BufferAttribute(this.asked!.index, 1))
    this.onmessage!({ data: MeshBVH.serialize(new MeshBVH(geometry)) })
  }
}

function ball(): THREE.Mesh {
  const mesh = new THREE.Mesh(new THREE.SphereGeometry(1, 90, 60))
  mesh.scale.setScalar(0.5)
  mesh.position.set(0.2, 0, 1)
  mesh.rotation.x = Math.PI / 2
  mesh.updateMatrixWorld()
  return mesh
}

function rays(n: number): THREE.Raycaster[] {
  return Array.from({ length: n }, (_, k) => {
    const from = new THREE.Vector3(3 * Math.cos(k), 3 * Math.sin(k), 1 + Math.sin(3 * k))
    const to = new THREE.Vector3(0.2 + 0.5 * Math.sin(5 * k), 0.5 * Math.cos(7 * k), 1)
    return new THREE.Raycaster(from, to.sub(from).normalize())
  })
}

beforeEach(() => {
  Fake.all = []
  vi.stubGlobal('Worker', Fake)
})

describe('where a ray first meets a mesh', () => {
  it('is the same place with the tree as without, whatever the mesh was turned and scaled by', () => {
    const mesh = ball()
    const picker = new Picker()
    const before = rays(60).map((r) => picker.first(r, mesh))
    picker.add(mesh)
    expect(picker.ready).toBe(0)
    Fake.all[0].answer()
    expect(picker.ready).toBe(1)
    let met = 0
    rays(60).forEach((r, k) => {
      const p = picker.first(r, mesh)
      expect(p === null).toBe(before[k] === null)
      if (!p) return
      met++
      expect(p.distanceTo(before[k]!)).toBeLessThan(1e-5)
      // a ball of half a metre about (0.2, 0, 1)
      expect(Math.abs(p.distanceTo(new THREE.Vector3(0.2, 0, 1)) - 0.5)).toBeLessThan(2e-3)
    })
    expect(met).toBeGreaterThan(20)
  })

  it('leaves the order of the drawn triangles alone, and asks no worker about a small mesh', () => {
    const mesh = ball()
    const order = Array.from(mesh.geometry.index!.array)
    const picker = new Picker()
    picker.add(mesh)
    Fake.all[0].answer()
    expect(Array.from(mesh.geometry.index!.array)).toEqual(order)
    picker.add(new THREE.Mesh(new THREE.BoxGeometry()))
    expect(Fake.all).toHaveLength(1)
  })

  it('ends the worker of a mesh that goes, and of all when the world does', () => {
    const [a, b] = [ball(), ball()]
    const picker = new Picker()
    picker.add(a)
    picker.add(b)
    picker.forget(a)
    expect(Fake.all.map((w) => w.ended)).toEqual([true, false])
    picker.dispose()
    expect(Fake.all.map((w) => w.ended)).toEqual([true, true])
  })
})

it('coordinates that a file keeps as whole numbers with gaps become plain ones', () => {
  const data = new THREE.InterleavedBuffer(new Uint16Array([1, 2, 3, 0, 40000, 5, 6, 0]), 4)
  const geometry = new THREE.BufferGeometry()
  geometry.setAttribute('position', new THREE.InterleavedBufferAttribute(data, 3, 0))
  plainPositions(geometry)
  expect(Array.from(geometry.getAttribute('position').array)).toEqual([1, 2, 3, 40000, 5, 6])
})
