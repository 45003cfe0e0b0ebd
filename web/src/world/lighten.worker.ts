import { MeshoptSimplifier } from 'meshoptimizer/simplifier'

/** Fewer triangles over the same vertices, made apart from the page's own thread. */
self.onmessage = async (
  e: MessageEvent<{ index: Uint32Array; positions: Float32Array; triangles: number }>,
) => {
  const { index, positions, triangles } = e.data
  await MeshoptSimplifier.ready
  const [fewer] = MeshoptSimplifier.simplify(index, positions, 3, triangles * 3, 0.05, ['Permissive'])
  self.postMessage(fewer, { transfer: [fewer.buffer] })
}
