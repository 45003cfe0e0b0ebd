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
