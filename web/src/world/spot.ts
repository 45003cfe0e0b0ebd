import * as THREE from 'three'

/** A square on the surface about a spot, and a short line along its normal; drawn over what hides it. */
export function spotObject(at: number[], normal: number[], side: number, color: number): THREE.Object3D {
  const h = side / 2
  const corners = [
    [-h, -h],
    [h, -h],
    [h, h],
    [-h, h],
    [-h, -h],
  ].map(([x, y]) => new THREE.Vector3(x, y, 0))
  const tip = [new THREE.Vector3(), new THREE.Vector3(0, 0, side)]
  const material = new THREE.LineBasicMaterial({ color, depthTest: false, transparent: true })
  const group = new THREE.Group()
  for (const points of [corners, tip])
    group.add(new THREE.Line(new THREE.BufferGeometry().setFromPoints(points), material))
  group.position.set(at[0], at[1], at[2])
  group.quaternion.setFromUnitVectors(
    new THREE.Vector3(0, 0, 1),
    new THREE.Vector3(normal[0], normal[1], normal[2]).normalize(),
  )
  group.renderOrder = 5
  return group
}
