import * as THREE from 'three'
import { MeshBVH, type SerializedBVH } from 'three-mesh-bvh'

/** A mesh with fewer triangles is searched as quickly without a tree. */
const SMALL = 2_000

/**
 * Where a ray first meets a mesh. A tree of boxes (bounding volume hierarchy) is made for each larger one, so that a
 * click costs as little on a million triangles as on a thousand.
 */
export class Picker {
  private readonly trees = new Map<THREE.BufferGeometry, MeshBVH>()
  private readonly workers = new Map<THREE.BufferGeometry, Worker>()

  /** Have a tree made of every larger mesh below an object. */
  add(root: THREE.Object3D) {
    for (const { geometry } of meshesOf(root)) {
      if (!geometry.index || geometry.index.count / 3 < SMALL || this.trees.has(geometry)) continue
      const worker = new Worker(new URL('./bvh.worker.ts', import.meta.url), { type: 'module' })
      this.workers.set(geometry, worker)
      worker.onmessage = (e: MessageEvent<SerializedBVH>) => {
        this.trees.set(geometry, treeOf(geometry, e.data))
        this.end(geometry)
      }
      worker.onerror = () => this.end(geometry)
      const positions = Float32Array.from(geometry.getAttribute('position').array)
      const index = Uint32Array.from(geometry.index.array)
      worker.postMessage({ index, positions }, [index.buffer, positions.buffer])
    }
  }

  forget(root: THREE.Object3D) {
    for (const { geometry } of meshesOf(root)) {
      this.trees.delete(geometry)
      this.end(geometry)
    }
  }

  /** Meshes that have their tree. */
  get ready() {
    return this.trees.size
  }

  /** The first place of any mesh below an object that the ray meets, in the world. */
  first(ray: THREE.Raycaster, root: THREE.Object3D): THREE.Vector3 | null {
    let best: THREE.Vector3 | null = null
    const consider = (p: THREE.Vector3) => {
      if (!best || p.distanceTo(ray.ray.origin) < best.distanceTo(ray.ray.origin)) best = p
    }
    for (const mesh of meshesOf(root)) {
      const tree = this.trees.get(mesh.geometry)
      if (tree) {
        const inside = ray.ray.clone().applyMatrix4(mesh.matrixWorld.clone().invert())
        const hit = tree.raycastFirst(inside, THREE.DoubleSide)
        if (hit) consider(hit.point.clone().applyMatrix4(mesh.matrixWorld))
      } else {
        const [hit] = ray.intersectObject(mesh, false)
        if (hit) consider(hit.point)
      }
    }
    return best
  }

  private end(geometry: THREE.BufferGeometry) {
    this.workers.get(geometry)?.terminate()
    this.workers.delete(geometry)
  }

  dispose() {
    this.workers.forEach((w) => w.terminate())
    this.workers.clear()
    this.trees.clear()
  }
}

/** The tree over the positions of a mesh; it has an order of triangles of its own, the mesh keeps its own. */
export function treeOf(geometry: THREE.BufferGeometry, made: SerializedBVH): MeshBVH {
  const own = new THREE.BufferGeometry()
  own.setAttribute('position', geometry.getAttribute('position'))
  own.setIndex(new THREE.BufferAttribute(made.index as Uint32Array, 1))
  return MeshBVH.deserialize(made, own)
}

function meshesOf(root: THREE.Object3D): THREE.Mesh<THREE.BufferGeometry>[] {
  const found: THREE.Mesh<THREE.BufferGeometry>[] = []
  root.traverse((o) => {
    if (o instanceof THREE.Mesh && !o.userData.wire) found.push(o as THREE.Mesh<THREE.BufferGeometry>)
  })
  return found
}
