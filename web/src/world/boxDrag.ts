import * as THREE from 'three'
import type { Box } from './build'

/** The keep box after one face was dragged to the place on its axis that is nearest to the pointer's ray. */
export function draggedBox(old: Box, axis: number, side: number, ray: THREE.Ray): Box {
  const turn = new THREE.Matrix4().makeRotationZ(old.turn)
  const direction = new THREE.Vector3().setComponent(axis, 1).applyMatrix4(turn)
  const middle = new THREE.Vector3(
    ...(old.low.map((l, k) => (l + old.high[k]) / 2) as [number, number, number]),
  )
  middle.setComponent(axis, side ? old.high[axis] : old.low[axis])
  const w = middle.applyMatrix4(turn).sub(ray.origin)
  const b = direction.dot(ray.direction)
  const shift = (b * ray.direction.dot(w) - direction.dot(w)) / Math.max(1 - b * b, 1e-6)
  const box: Box = { low: [...old.low], high: [...old.high], turn: old.turn }
  const gap = 0.02 * Math.max(...box.high.map((h, k) => h - box.low[k]))
  if (side) box.high[axis] = Math.max(box.high[axis] + shift, box.low[axis] + gap)
  else box.low[axis] = Math.min(box.low[axis] + shift, box.high[axis] - gap)
  return box
}
