import * as THREE from 'three'

export type MeshMode = 'textured' | 'plain' | 'wire' | 'glass'

/** Give all meshes below some objects the look of a mode; what a file brought with it is kept for coming back. */
export function dressMeshes(roots: THREE.Object3D[], mode: MeshMode) {
  const meshes: THREE.Mesh[] = []
  for (const root of roots)
    root.traverse((o) => {
      if (o instanceof THREE.Mesh && !o.userData.wire) meshes.push(o)
    })
  for (const o of meshes) {
    const old = o.material as THREE.MeshStandardMaterial
    const map = (o.userData.map ??= old.map ?? null) as THREE.Texture | null
    o.material =
      mode === 'textured' && map
        ? new THREE.MeshBasicMaterial({ map, side: THREE.DoubleSide })
        : new THREE.MeshStandardMaterial({
            color: mode === 'glass' ? 0x0e7c7b : 0xcfc6b4,
            roughness: 0.9,
            side: THREE.DoubleSide,
            transparent: mode === 'glass',
            opacity: mode === 'glass' ? 0.28 : 1,
            depthWrite: mode !== 'glass',
          })
    o.children.filter((c) => c.userData.wire).forEach((c) => o.remove(c))
    if (mode === 'wire') {
      const lines = new THREE.MeshBasicMaterial({
        color: 0x26241f,
        wireframe: true,
        transparent: true,
        opacity: 0.35,
      })
      const wire = new THREE.Mesh(o.geometry, lines)
      wire.userData.wire = true
      o.add(wire)
    }
  }
}
