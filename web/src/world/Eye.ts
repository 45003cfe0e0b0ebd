import CameraControls from 'camera-controls'
import * as THREE from 'three'
import type { CameraOut } from '@/api/client'
import type { Facing } from './level'

CameraControls.install({ THREE })

/** Angle of view from top to bottom in degrees: of a free look, and of one straight on, far off through a long lens. */
const FREE = 42
const LONG = 12

const DIRECTION: Record<Facing, [number, number, number]> = {
  front: [0, -1, 0],
  back: [0, 1, 0],
  left: [-1, 0, 0],
  right: [1, 0, 0],
  top: [0, -1e-4, 1],
  below: [0, -1e-4, -1],
}

/** What is needed of a placed photo to see what it saw. */
export type Taken = Pick<CameraOut, 'rotation' | 'center' | 'width' | 'height' | 'focal'>

/** Angle from top to bottom (degrees) of a view of an aspect that a photo is fitted into whole. */
export function fittingView(photo: Taken, aspect: number): number {
  const wider = photo.width / photo.height > aspect
  const half = wider ? photo.width / (2 * photo.focal) / aspect : photo.height / (2 * photo.focal)
  return (2 * Math.atan(half) * 180) / Math.PI
}

/** Put a camera where a placed photo was taken, looking as it did. */
export function standAt(camera: THREE.Camera, photo: Taken) {
  const [x, y, z] = photo.rotation!.map((row) => new THREE.Vector3().fromArray(row))
  camera.position.fromArray(photo.center!)
  // a photo has y downwards and looks along z, the eye has y upwards and looks against z
  camera.quaternion.setFromRotationMatrix(new THREE.Matrix4().makeBasis(x, y.negate(), z.negate()))
}

/** From where the world is seen, and how that moves. */
export class Eye {
  readonly camera = new THREE.PerspectiveCamera(FREE, 1, 0.001, 1000)
  private readonly controls: CameraControls
  private photo: Taken | null = null

  constructor(canvas: HTMLCanvasElement) {
    this.camera.up.set(0, 0, 1)
    this.camera.position.set(2, -3, 2)
    this.controls = new CameraControls(this.camera, canvas)
    this.controls.smoothTime = 0.08
    this.controls.draggingSmoothTime = 0.03
    this.controls.dollyToCursor = true
    this.controls.mouseButtons.right = CameraControls.ACTION.TRUCK
    this.controls.mouseButtons.wheel = CameraControls.ACTION.DOLLY
  }

  dispose() {
    this.controls.dispose()
  }

  /** Move on by so many seconds; whether anything moved. */
  update(seconds: number) {
    return this.photo ? false : this.controls.update(seconds)
  }

  /** Look as a camera does, with its photo fitted into the view; back to the free look without one. */
  through(photo: Taken | null) {
    const before = this.photo
    this.photo = photo
    this.controls.enabled = !photo
    if (photo?.center && photo.rotation) {
      standAt(this.camera, photo)
      this.fitPhoto()
    } else if (before) {
      this.perspective()
      const [from, to] = [
        this.controls.getPosition(new THREE.Vector3()),
        this.controls.getTarget(new THREE.Vector3()),
      ]
      void this.controls.setLookAt(from.x, from.y, from.z, to.x, to.y, to.z, false)
      this.controls.update(0)
    }
  }

  private fitPhoto() {
    if (this.photo) this.camera.fov = fittingView(this.photo, this.camera.aspect)
    this.camera.updateProjectionMatrix()
    this.camera.updateMatrixWorld()
  }

  /** While something in the world is dragged the view does not turn. */
  set held(on: boolean) {
    this.controls.enabled = !on
  }

  setAspect(aspect: number) {
    this.camera.aspect = aspect
    this.fitPhoto()
  }

  turnAbout(p: THREE.Vector3) {
    this.controls.setOrbitPoint(p.x, p.y, p.z)
  }

  /** Fit a box into the picture; `all` is what must not be cut off behind it. */
  frame(box: THREE.Box3, smooth: boolean, all = box) {
    const sphere = box.getBoundingSphere(new THREE.Sphere())
    this.camera.near = sphere.radius / 200
    this.camera.far = Math.max(sphere.radius, all.getSize(new THREE.Vector3()).length()) * 60
    this.camera.updateProjectionMatrix()
    void this.controls.fitToSphere(new THREE.Sphere(sphere.center, sphere.radius * 0.98), smooth)
  }

  home(content: THREE.Box3, smooth: boolean) {
    const c = content.getCenter(new THREE.Vector3())
    void this.controls.setLookAt(c.x + 1.2, c.y - 2.4, c.z + 1.1, c.x, c.y, c.z, smooth)
    this.frame(content, smooth)
  }

  look(side: Facing, subject: THREE.Box3, content: THREE.Box3) {
    const c = subject.getCenter(new THREE.Vector3())
    const d = DIRECTION[side]
    const r = subject.getBoundingSphere(new THREE.Sphere()).radius * 6
    // far away through a long lens: as good as without perspective
    this.camera.fov = LONG
    void this.controls.setLookAt(c.x + d[0] * r, c.y + d[1] * r, c.z + d[2] * r, c.x, c.y, c.z, false)
    this.frame(subject, false, content)
  }

  perspective() {
    this.camera.fov = FREE
    this.camera.updateProjectionMatrix()
  }

  /** Turn to a place, from its side of the subject's middle. */
  comeTo(p: THREE.Vector3, middle: THREE.Vector3) {
    const out = p
      .clone()
      .sub(middle)
      .setZ(Math.max(0.1, p.z - middle.z))
    this.go(out.setLength(this.camera.position.distanceTo(middle) * 0.6).add(p), p)
  }

  /** Go nearer to a place, by more than half of the way. */
  goNear(p: THREE.Vector3) {
    const away = this.camera.position.distanceTo(p) * 0.45
    this.go(this.camera.position.clone().sub(p).setLength(away).add(p), p)
  }

  private go(from: THREE.Vector3, to: THREE.Vector3) {
    void this.controls.setLookAt(from.x, from.y, from.z, to.x, to.y, to.z, true)
  }

  matrix(): number[] {
    this.camera.updateMatrixWorld()
    const m = new THREE.Matrix4().multiplyMatrices(
      this.camera.projectionMatrix,
      this.camera.matrixWorldInverse,
    )
    return m.transpose().toArray()
  }

  setTool(active: boolean) {
    const { NONE, ROTATE, TRUCK } = CameraControls.ACTION
    this.controls.mouseButtons.left = active ? NONE : ROTATE
    this.controls.mouseButtons.right = active ? ROTATE : TRUCK
  }
}
