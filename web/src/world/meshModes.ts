import * as THREE from 'three'

export type MeshMode = 'textured' | 'plain' | 'wire' | 'glass' | 'normals' | 'sides' | 'evidence' | 'photo'

/** What the back of a face is drawn in where sides are told apart (linear light). */
const BACK = 'vec3(0.62, 0.11, 0.06)'

/** A face that is seen from behind stands out: it shows holes, and what is turned inside out. */
function twoSided() {
  const paint = plainPaint()
  paint.onBeforeCompile = (shader) => {
    shader.fragmentShader = shader.fragmentShader.replace(
      '#include <color_fragment>',
      `#include <color_fragment>\n if (!gl_FrontFacing) diffuseColor.rgb = ${BACK};`,
    )
  }
  return paint
}

function plainPaint(glass = false) {
  return new THREE.MeshStandardMaterial({
    color: glass ? 0x0e7c7b : 0xcfc6b4,
    roughness: 0.9,
    side: THREE.DoubleSide,
    transparent: glass,
    opacity: glass ? 0.28 : 1,
    depthWrite: !glass,
  })
}

/** Each direction a tone of its own, as the surface faces in the world: it does not change while the view turns. */
function facingPaint() {
  return new THREE.ShaderMaterial({
    side: THREE.DoubleSide,
    vertexShader: `varying vec3 facing;
      void main() {
        facing = normalize(mat3(modelMatrix) * normal);
        gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
      }`,
    fragmentShader: `varying vec3 facing;
      void main() {
        gl_FragColor = vec4(0.5 + 0.5 * normalize(facing), 1.0);
      }`,
  })
}

function paintOf(mode: MeshMode, map: THREE.Texture | null): THREE.Material {
  if (mode === 'textured' && map) return new THREE.MeshBasicMaterial({ map, side: THREE.DoubleSide })
  if (mode === 'evidence' && map)
    return new THREE.MeshStandardMaterial({ map, roughness: 0.9, side: THREE.DoubleSide })
  if (mode === 'normals') return facingPaint()
  if (mode === 'sides') return twoSided()
  return plainPaint(mode === 'glass')
}

/** The meshes below some objects. */
function meshesBelow(roots: THREE.Object3D[]): THREE.Mesh[] {
  const meshes: THREE.Mesh[] = []
  for (const root of roots)
    root.traverse((o) => {
      if (o instanceof THREE.Mesh && !o.userData.wire) meshes.push(o)
    })
  return meshes
}

/**
 * Give all meshes below some objects the look of a mode; what a file brought with it is kept for coming back. `thrown`
 * makes the paint of a photo that is thrown onto them.
 */
export function dressMeshes(
  roots: THREE.Object3D[],
  mode: MeshMode,
  thrown: (meshes: THREE.Mesh[]) => THREE.Material | null,
) {
  const meshes = meshesBelow(roots)
  const photo = mode === 'photo' ? thrown(meshes) : null
  for (const o of meshes) {
    const old = o.material as THREE.MeshStandardMaterial
    const map = (o.userData.map ??= old.map ?? null) as THREE.Texture | null
    o.material = photo ?? paintOf(mode, map)
    old.dispose() // what it was painted with, not the texture
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
