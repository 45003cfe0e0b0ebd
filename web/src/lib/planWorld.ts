import * as THREE from 'three'
import type { Patches, PlanIn, PlanOut } from '@/api/client'

export type Place = [number, number, number]

/** Places are shot in strips, objects in laps. */
export const inStrips = (kind: string | undefined) =>
  ['wall', 'ground', 'corner', 'room'].includes(kind ?? '')

/** The painted stand-in as a mesh, with boxes that are in the way and the light about it. */
export function standInObject(patches: Patches, plan: PlanIn, out: PlanOut): THREE.Mesh {
  const geometry = new THREE.BufferGeometry()
  geometry.setAttribute('position', new THREE.Float32BufferAttribute(patches.corners, 3))
  const flat = ['wall', 'ground'].includes(plan.kind ?? '')
  const mesh = new THREE.Mesh(
    geometry,
    new THREE.MeshBasicMaterial({ vertexColors: true, side: flat ? THREE.DoubleSide : THREE.FrontSide }),
  )
  for (const o of plan.obstacles ?? []) mesh.add(boxOf(o.low as Place, o.high as Place))
  const size = 0.03 * out.distance
  for (const at of out.lamps) {
    const lamp = new THREE.Mesh(
      new THREE.OctahedronGeometry(size),
      new THREE.MeshBasicMaterial({ color: 0xb8862b }),
    )
    lamp.position.fromArray(at)
    mesh.add(lamp)
  }
  return mesh
}

function boxOf(low: Place, high: Place) {
  const [a, b] = [new THREE.Vector3(...low), new THREE.Vector3(...high)]
  const size = b.clone().sub(a)
  const box = new THREE.Mesh(
    new THREE.BoxGeometry(Math.abs(size.x), Math.abs(size.y), Math.abs(size.z)),
    new THREE.MeshBasicMaterial({ color: 0x6f6a5e, transparent: true, opacity: 0.35, depthWrite: false }),
  )
  box.position.copy(a.add(b).multiplyScalar(0.5))
  return box
}

/**
 * Where a planned camera goes when it is dragged: along its ring for a subject that is walked round, along the wall,
 * or over the ground at its height.
 */
export function draggedPlace(from: Place, ray: THREE.Ray, kind: string): Place | null {
  const wall = kind === 'wall'
  const normal = wall ? new THREE.Vector3(0, 1, 0) : new THREE.Vector3(0, 0, 1)
  const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(normal, new THREE.Vector3(...from))
  const hit = ray.intersectPlane(plane, new THREE.Vector3())
  if (!hit) return null
  if (inStrips(kind)) return [hit.x, hit.y, hit.z]
  const radius = Math.hypot(from[0], from[1])
  const reach = Math.hypot(hit.x, hit.y)
  if (reach < 1e-9) return null
  return [(hit.x * radius) / reach, (hit.y * radius) / reach, from[2]]
}

/** A plan with one of its shots somewhere else. */
export function withMoved(plan: PlanIn, out: PlanOut, row: number, to: Place): PlanIn {
  const s = out.stations[row]
  if (s.number >= 0) {
    const others = (plan.moved ?? []).filter((m) => m[0] !== s.number)
    return { ...plan, moved: [...others, [s.number, ...to]] }
  }
  const [x, y, z] = s.center
  const extra = (plan.extra ?? []).map((e) =>
    Math.hypot(e[0] - x, e[1] - y, e[2] - z) < 1e-6 ? to : (e as Place),
  )
  return { ...plan, extra }
}

/** A plan without one of its shots. */
export function without(plan: PlanIn, out: PlanOut, row: number): PlanIn {
  const s = out.stations[row]
  if (s.number >= 0) return { ...plan, removed: [...(plan.removed ?? []), s.number] }
  const [x, y, z] = s.center
  return {
    ...plan,
    extra: (plan.extra ?? []).filter((e) => Math.hypot(e[0] - x, e[1] - y, e[2] - z) > 1e-6),
  }
}

/** Which patches balls of a marking touch. */
export function markedPatches(patches: Patches, marked: readonly (readonly number[])[]): boolean[] {
  const out: boolean[] = []
  const p = patches.corners
  for (let k = 0; 9 * k < p.length; k++) {
    const c = [0, 1, 2].map((i) => (p[9 * k + i] + p[9 * k + 3 + i] + p[9 * k + 6 + i]) / 3)
    out.push(marked.some((m) => Math.hypot(c[0] - m[0], c[1] - m[1], c[2] - m[2]) <= m[3]))
  }
  return out
}
