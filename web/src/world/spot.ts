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

/** Chosen faces, over the surface they lie on; where something hides them they are hidden. */
export function tintedFaces(corners: Float32Array, color: number): THREE.Object3D {
  const geometry = new THREE.BufferGeometry()
  geometry.setAttribute('position', new THREE.BufferAttribute(corners, 3))
  const material = new THREE.MeshBasicMaterial({
    color,
    transparent: true,
    opacity: 0.55,
    side: THREE.DoubleSide,
    depthWrite: false,
    polygonOffset: true,
    polygonOffsetFactor: -2,
    polygonOffsetUnits: -4,
  })
  const mesh = new THREE.Mesh(geometry, material)
  mesh.renderOrder = 4
  return mesh
}

/** A line from place to place with a dot at each, drawn over what hides it. */
export function trailObject(places: number[][], radius: number, color: number): THREE.Object3D {
  const group = new THREE.Group()
  const points = places.map((p) => new THREE.Vector3(p[0], p[1], p[2]))
  const material = new THREE.LineBasicMaterial({ color, depthTest: false, transparent: true })
  group.add(new THREE.Line(new THREE.BufferGeometry().setFromPoints(points), material))
  const dot = new THREE.MeshBasicMaterial({ color, depthTest: false, transparent: true })
  for (const p of points) {
    const ball = new THREE.Mesh(new THREE.SphereGeometry(radius, 12, 8), dot)
    ball.position.copy(p)
    ball.renderOrder = 6
    group.add(ball)
  }
  group.renderOrder = 6
  return group
}
