import * as THREE from 'three'
import { FramePicture } from './FramePicture'
import { fittingView, standAt, type Taken } from './Eye'

/** Pixels along the longer side of the picture of depths that says what a photo sees. */
const DEPTHS = 1536

/**
 * Throws a photo onto meshes from where it was taken, as a lantern would: what it sees shows it, what is hidden from it,
 * turned away or beside it stays plain.
 */
export class Projector {
  private readonly picture = new FramePicture()
  private readonly camera = new THREE.PerspectiveCamera()
  private readonly target: THREE.WebGLRenderTarget
  private taken: Taken | null = null

  constructor(
    private readonly renderer: THREE.WebGLRenderer,
    private readonly changed: () => void,
  ) {
    this.target = new THREE.WebGLRenderTarget(4, 4, { depthTexture: new THREE.DepthTexture(4, 4) })
  }

  /** Show a photo, at an address of it without distortion; none for no photo. */
  show(taken: Taken | null, address: string | null) {
    this.taken = taken?.center && taken.rotation ? taken : null
    this.picture.show(this.taken ? address : null, this.changed)
    this.changed()
  }

  /** What meshes are to be painted with; null while there is no photo, or it is on its way. */
  paint(meshes: THREE.Mesh[]): THREE.Material | null {
    const photo = this.picture.picture
    if (!photo || !this.taken || !meshes.length) return null
    this.place(this.taken, meshes)
    this.measure(meshes)
    const toPhoto = new THREE.Matrix4().multiplyMatrices(
      this.camera.projectionMatrix,
      this.camera.matrixWorldInverse,
    )
    return new THREE.ShaderMaterial({
      side: THREE.DoubleSide,
      uniforms: {
        toPhoto: { value: toPhoto },
        from: { value: this.camera.position.clone() },
        photo: { value: photo },
        depths: { value: this.target.depthTexture },
      },
      vertexShader: `uniform mat4 toPhoto; varying vec4 at; varying vec3 facing; varying vec3 place;
        void main() {
          vec4 world = modelMatrix * vec4(position, 1.0);
          place = world.xyz;
          at = toPhoto * world;
          facing = normalize(mat3(modelMatrix) * normal);
          gl_Position = projectionMatrix * viewMatrix * world;
        }`,
      fragmentShader: `uniform sampler2D photo; uniform sampler2D depths; uniform vec3 from;
        varying vec4 at; varying vec3 facing; varying vec3 place;
        void main() {
          vec3 n = normalize(facing);
          // plain where the photo says nothing: a soft light from above
          vec3 tone = vec3(0.81, 0.78, 0.71) * (0.62 + 0.3 * n.z);
          vec3 uv = at.xyz / at.w * 0.5 + 0.5;
          bool within = at.w > 0.0 && all(greaterThan(uv.xy, vec2(0.0))) && all(lessThan(uv.xy, vec2(1.0)));
          float square = dot(n, normalize(from - place));
          // a grazing surface passes through many depths within one pixel of them
          float slack = 0.0006 + 0.002 * (1.0 - clamp(square, 0.0, 1.0));
          if (within && square > 0.05 && uv.z <= texture2D(depths, uv.xy).r + slack * (1.0 - uv.z + 0.02))
            tone = pow(texture2D(photo, uv.xy).rgb, vec3(1.0 / 2.2)); // as the eye sees it, like the plain tone
          gl_FragColor = vec4(tone, 1.0);
        }`,
    })
  }

  /** Put the camera where the photo was taken, no nearer and farther open than the meshes ask for. */
  private place(taken: Taken, meshes: THREE.Mesh[]) {
    standAt(this.camera, taken)
    this.camera.aspect = taken.width / taken.height
    this.camera.fov = fittingView(taken, this.camera.aspect)
    const all = new THREE.Box3()
    meshes.forEach((m) => all.expandByObject(m))
    const ball = all.getBoundingSphere(new THREE.Sphere())
    const away = ball.center.distanceTo(this.camera.position)
    this.camera.near = Math.max(away - ball.radius, ball.radius / 50)
    this.camera.far = away + ball.radius
    this.camera.updateProjectionMatrix()
    this.camera.updateMatrixWorld()
  }

  /** How far away the nearest of the meshes is in each pixel of the photo. */
  private measure(meshes: THREE.Mesh[]) {
    const k = DEPTHS / Math.max(this.taken!.width, this.taken!.height)
    this.target.setSize(Math.round(k * this.taken!.width), Math.round(k * this.taken!.height))
    const scene = new THREE.Scene()
    scene.overrideMaterial = new THREE.MeshBasicMaterial({ side: THREE.DoubleSide })
    for (const m of meshes) {
      const copy = new THREE.Mesh(m.geometry, scene.overrideMaterial)
      m.updateWorldMatrix(true, false)
      copy.matrixAutoUpdate = false
      copy.matrix.copy(m.matrixWorld)
      scene.add(copy)
    }
    const before = this.renderer.getRenderTarget()
    this.renderer.setRenderTarget(this.target)
    this.renderer.clear()
    this.renderer.render(scene, this.camera)
    this.renderer.setRenderTarget(before)
    scene.overrideMaterial.dispose()
  }

  dispose() {
    this.picture.dispose()
    this.target.depthTexture?.dispose()
    this.target.dispose()
  }
}
