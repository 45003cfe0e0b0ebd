import * as THREE from 'three'
import type { CameraOut } from '@/api/client'

/** The ray under the pointer. */
export function rayAt(e: MouseEvent, canvas: HTMLElement, camera: THREE.Camera, threshold: number) {
  const r = canvas.getBoundingClientRect()
  const at = new THREE.Vector2(
    ((e.clientX - r.left) / r.width) * 2 - 1,
    1 - ((e.clientY - r.top) / r.height) * 2,
  )
  const ray = new THREE.Raycaster()
  ray.params.Points.threshold = threshold
  ray.setFromCamera(at, camera)
  return ray
}

/** Row of the camera whose apex is nearest to the pointer, within a finger's width. */
export function nearestCamera(
  cameras: CameraOut[],
  e: Pick<MouseEvent, 'clientX' | 'clientY'>,
  canvas: Pick<HTMLElement, 'getBoundingClientRect'>,
  eye: THREE.Camera,
): number | null {
  const r = canvas.getBoundingClientRect()
  let best = 22
  let row: number | null = null
  for (const c of cameras) {
    if (!c.center) continue
    const p = new THREE.Vector3().fromArray(c.center).project(eye)
    if (p.z > 1) continue
    const d = Math.hypot(
      ((p.x + 1) / 2) * r.width - (e.clientX - r.left),
      ((1 - p.y) / 2) * r.height - (e.clientY - r.top),
    )
    if (d < best) [best, row] = [d, c.row]
  }
  return row
}

/** How near (pixels) a point has to be to be meant, and how much further behind it counts as hidden. */
const NEAR = 9

/** The point of a cloud that is meant by a press: near the pointer, and in front of others that are. */
export function nearestPoint(
  points: THREE.Points,
  e: Pick<MouseEvent, 'clientX' | 'clientY'>,
  canvas: Pick<HTMLElement, 'getBoundingClientRect'>,
  eye: THREE.Camera,
): THREE.Vector3 | null {
  const r = canvas.getBoundingClientRect()
  const x = ((e.clientX - r.left) / r.width) * 2 - 1
  const y = 1 - ((e.clientY - r.top) / r.height) * 2
  const m = new THREE.Matrix4()
    .multiplyMatrices(eye.projectionMatrix, eye.matrixWorldInverse)
    .multiply(points.matrixWorld).elements
  const at = points.geometry.getAttribute('position').array
  const states = points.geometry.getAttribute('pointState')?.array
  let best = Infinity
  let found = -1
  for (let k = 0; k < at.length; k += 3) {
    if (states?.[k / 3] === 2) continue // no longer there
    const [px, py, pz] = [at[k], at[k + 1], at[k + 2]]
    const w = m[3] * px + m[7] * py + m[11] * pz + m[15]
    if (w <= 0) continue
    const dx = ((m[0] * px + m[4] * py + m[8] * pz + m[12]) / w - x) * 0.5 * r.width
    const dy = ((m[1] * px + m[5] * py + m[9] * pz + m[13]) / w - y) * 0.5 * r.height
    const off = Math.hypot(dx, dy)
    if (off > NEAR) continue
    // a pixel off weighs as much as a two-hundredth further away
    const worth = w * (1 + off / 200)
    if (worth < best) [best, found] = [worth, k]
  }
  return found < 0 ? null : new THREE.Vector3(at[found], at[found + 1], at[found + 2])
}

/** Take everything out of a group, and its memory back. */
export function dispose(group: THREE.Group) {
  group.traverse((o) => {
    if (!(o instanceof THREE.Mesh || o instanceof THREE.Points || o instanceof THREE.LineSegments)) return
    o.geometry.dispose()
    for (const m of [o.material].flat() as THREE.Material[]) m.dispose()
    ;(o.userData.map as THREE.Texture | undefined)?.dispose()
  })
  group.clear()
}
