import * as THREE from 'three'
import { MeshoptDecoder } from 'meshoptimizer/decoder'
import { GLTFLoader } from 'three/addons/loaders/GLTFLoader.js'

/** Coordinates as one plain row of numbers: files may keep them as whole numbers, and with gaps. */
export function plainPositions(geometry: THREE.BufferGeometry) {
  const at = geometry.getAttribute('position')
  if (at instanceof THREE.BufferAttribute && at.array instanceof Float32Array) return
  const plain = new Float32Array(at.count * 3)
  for (let k = 0; k < at.count; k++) {
    plain[3 * k] = at.getX(k)
    plain[3 * k + 1] = at.getY(k)
    plain[3 * k + 2] = at.getZ(k)
  }
  geometry.setAttribute('position', new THREE.BufferAttribute(plain, 3))
}

/** The meshes of a GLB, Z up. */
export async function readMesh(data: ArrayBuffer): Promise<THREE.Group> {
  const { scene } = await new GLTFLoader().setMeshoptDecoder(MeshoptDecoder).parseAsync(data, '')
  scene.traverse((o) => {
    if (o instanceof THREE.Mesh) plainPositions(o.geometry as THREE.BufferGeometry)
  })
  scene.rotation.x = Math.PI / 2 // files are Y up, the world is Z up
  return scene
}
