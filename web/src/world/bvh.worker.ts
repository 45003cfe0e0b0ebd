import { BufferAttribute, BufferGeometry } from 'three'
import { MeshBVH } from 'three-mesh-bvh'

/** The tree of boxes around a mesh's triangles, made apart from the page's own thread. */
self.onmessage = (e: MessageEvent<{ index: Uint32Array; positions: Float32Array }>) => {
  const geometry = new BufferGeometry()
  geometry.setAttribute('position', new BufferAttribute(e.data.positions, 3))
  geometry.setIndex(new BufferAttribute(e.data.index, 1))
  const made = MeshBVH.serialize(new MeshBVH(geometry), { cloneBuffers: false })
  self.postMessage(made, { transfer: [...made.roots, made.index!.buffer] as Transferable[] })
}
