import CameraControls from 'camera-controls'
import * as THREE from 'three'
import { GLTFLoader } from 'three/addons/loaders/GLTFLoader.js'
import type { CameraOut } from '@/api/client'
import {
  boxObject,
  cameraLines,
  cloudObject,
  fadeOutside,
  groundGrid,
  readCloud,
  type Box,
  type Cloud,
  type CloudMode,
  cloudColors,
} from './build'

CameraControls.install({ THREE })

export type MeshMode = 'textured' | 'plain' | 'wire' | 'glass'
export type Part = 'cameras' | 'cloud' | 'box' | 'mesh' | 'ground'
export type Side = 'front' | 'back' | 'left' | 'right' | 'top' | 'below'

/** The 3D view: one scene, Z up, drawn only when something changes. */
export class World {
  readonly scene = new THREE.Scene()
  readonly camera = new THREE.PerspectiveCamera(42, 1, 0.001, 1000)
  private readonly renderer: THREE.WebGLRenderer
  private readonly controls: CameraControls
  private last = performance.now()
  private readonly parts: Record<Part, THREE.Group>
  private readonly second = new THREE.Group()
  private readonly watcher: ResizeObserver
  private cloud: Cloud | null = null
  private points: THREE.Points | null = null
  private cameras: CameraOut[] = []
  private box: Box | null = null
  private meshMode: MeshMode = 'textured'
  private needed = true
  private stopped = false
  private moving = 0
  private share = 1
  private dragged: { axis: number; side: number } | null = null
  /** Where the line between two compared versions is, 0..1 of the width; null when nothing is compared. */
  split: number | null = null
  square = 0
  onCamera: (row: number) => void = () => {}
  onBox: (box: Box) => void = () => {}

  constructor(readonly canvas: HTMLCanvasElement) {
    this.renderer = new THREE.WebGLRenderer({
      canvas,
      antialias: false,
      alpha: true,
      preserveDrawingBuffer: true,
    })
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
    this.camera.up.set(0, 0, 1)
    this.camera.position.set(2, -3, 2)
    this.controls = new CameraControls(this.camera, canvas)
    this.controls.smoothTime = 0.08
    this.controls.draggingSmoothTime = 0.03
    this.controls.dollyToCursor = true
    this.controls.mouseButtons.right = CameraControls.ACTION.TRUCK
    this.controls.mouseButtons.wheel = CameraControls.ACTION.DOLLY
    this.parts = Object.fromEntries(
      (['cameras', 'cloud', 'box', 'mesh', 'ground'] as Part[]).map((k) => [k, new THREE.Group()]),
    ) as Record<Part, THREE.Group>
    Object.values(this.parts).forEach((g) => this.scene.add(g))
    this.scene.add(this.second)
    this.scene.add(new THREE.HemisphereLight(0xffffff, 0xb9ae98, 2.2))
    const slant = new THREE.DirectionalLight(0xffffff, 1.6)
    slant.position.set(2, -3, 4)
    this.scene.add(slant)
    canvas.addEventListener('pointerdown', this.pointerDown, { capture: true })
    canvas.addEventListener('pointermove', this.pointerMove)
    canvas.addEventListener('pointerup', this.pointerUp)
    canvas.addEventListener('dblclick', this.doubleClick)
    this.watcher = new ResizeObserver(() => this.resize())
    this.watcher.observe(canvas.parentElement!)
    this.resize()
    this.loop()
  }

  dispose() {
    this.stopped = true
    this.watcher.disconnect()
    this.controls.dispose()
    this.renderer.dispose()
  }

  request() {
    this.needed = true
  }

  private resize() {
    const { clientWidth: w, clientHeight: h } = this.canvas.parentElement!
    if (!w || !h) return
    this.renderer.setSize(w, h, false)
    this.camera.aspect = w / h
    this.camera.updateProjectionMatrix()
    this.needed = true
  }

  /** While the view moves, less is drawn if a frame takes too long; when it rests, everything. */
  private loop = () => {
    if (this.stopped) return
    requestAnimationFrame(this.loop)
    const now = performance.now()
    const moved = this.controls.update(Math.min(0.1, (now - this.last) / 1000))
    this.last = now
    if (moved) this.moving = performance.now()
    const still = performance.now() - this.moving > 180
    if (!moved && !this.needed && (this.share === 1 || !still)) return
    if (still && this.share !== 1) this.share = 1
    this.needed = false
    const began = performance.now()
    this.draw()
    const spent = performance.now() - began
    if (moved)
      this.share = Math.min(
        1,
        Math.max(0.03, this.share * Math.min(2, Math.max(0.4, 90 / Math.max(spent, 1)))),
      )
  }

  private draw() {
    if (this.points) {
      const n = this.points.geometry.getAttribute('position').count
      this.points.geometry.setDrawRange(0, Math.ceil(n * this.share))
    }
    const { x: w, y: h } = this.renderer.getSize(new THREE.Vector2())
    if (this.split === null) {
      this.second.visible = false
      this.renderer.render(this.scene, this.camera)
      return
    }
    const at = Math.round(w * this.split)
    this.renderer.setScissorTest(true)
    for (const [side, x, width] of [
      [0, 0, at],
      [1, at, w - at],
    ] as const) {
      this.renderer.setScissor(x, 0, width, h)
      const shown = this.parts.mesh.visible
      this.parts.mesh.visible = shown && side === 0
      this.second.visible = side === 1
      this.renderer.render(this.scene, this.camera)
      this.parts.mesh.visible = shown
    }
    this.renderer.setScissorTest(false)
  }

  show(part: Part, on: boolean) {
    this.parts[part].visible = on
    this.request()
  }

  clear(...which: Part[]) {
    for (const k of which) this.parts[k].clear()
    if (which.includes('cloud')) this.points = this.cloud = null
    if (which.includes('mesh')) this.second.clear()
    this.request()
  }

  setCloud(data: ArrayBuffer, mode: CloudMode, size = 2.2) {
    this.cloud = readCloud(data)
    this.points = cloudObject(this.cloud, mode, size * this.renderer.getPixelRatio())
    if (this.box) (this.points.material as THREE.Material).userData.box = this.box
    this.parts.cloud.clear()
    this.parts.cloud.add(this.points)
    this.request()
  }

  setCloudMode(mode: CloudMode) {
    if (!this.cloud || !this.points) return
    this.points.geometry.setAttribute(
      'color',
      new THREE.BufferAttribute(cloudColors(this.cloud, mode), 3, true),
    )
    this.request()
  }

  setCameras(cameras: CameraOut[], selected: number | null) {
    this.cameras = cameras
    const centers = cameras.filter((c) => c.center).map((c) => new THREE.Vector3().fromArray(c.center!))
    const reach = centers.length
      ? new THREE.Box3().setFromPoints(centers).getSize(new THREE.Vector3()).length()
      : 1
    this.parts.cameras.clear()
    this.parts.cameras.add(cameraLines(cameras, Math.max(reach * 0.035, 1e-3), selected))
    this.request()
  }

  setBox(box: Box | null) {
    this.box = box
    this.parts.box.clear()
    if (box) this.parts.box.add(boxObject(box))
    if (box && this.points) fadeOutside(this.points.material as THREE.Material, box)
    this.request()
  }

  setGround(extent: number) {
    const { object, square } = groundGrid(extent)
    this.square = square
    this.parts.ground.clear()
    this.parts.ground.add(object)
    this.request()
  }

  setShape(object: THREE.Object3D) {
    this.parts.mesh.clear()
    this.parts.mesh.add(object)
    this.request()
  }

  async setMesh(url: string, mode: MeshMode, second = false) {
    const gltf = await new GLTFLoader().loadAsync(url)
    gltf.scene.rotation.x = Math.PI / 2 // files are Y up, the world is Z up
    const target = second ? this.second : this.parts.mesh
    target.clear()
    target.add(gltf.scene)
    this.setMeshMode(mode)
  }

  setMeshMode(mode: MeshMode) {
    this.meshMode = mode
    const meshes: THREE.Mesh[] = []
    for (const root of [this.parts.mesh, this.second])
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
    this.request()
  }

  get mode() {
    return this.meshMode
  }

  private content(): THREE.Box3 {
    const box = new THREE.Box3()
    if (this.parts.mesh.children.length) box.expandByObject(this.parts.mesh)
    if (this.box && box.isEmpty()) box.expandByObject(this.parts.box)
    if (box.isEmpty() && this.points) box.expandByObject(this.points)
    for (const c of this.cameras)
      if (c.center && this.parts.cameras.visible) box.expandByPoint(new THREE.Vector3().fromArray(c.center))
    if (box.isEmpty()) box.set(new THREE.Vector3(-1, -1, 0), new THREE.Vector3(1, 1, 1))
    return box
  }

  frameAll(smooth = true) {
    const box = this.content()
    const sphere = box.getBoundingSphere(new THREE.Sphere())
    this.camera.near = sphere.radius / 200
    this.camera.far = sphere.radius * 60
    this.camera.updateProjectionMatrix()
    void this.controls.fitToSphere(new THREE.Sphere(sphere.center, sphere.radius * 0.98), smooth)
    this.request()
  }

  /** The first view: a little from above, from the front. */
  home(smooth = false) {
    const c = this.content().getCenter(new THREE.Vector3())
    void this.controls.setLookAt(c.x + 1.2, c.y - 2.4, c.z + 1.1, c.x, c.y, c.z, smooth)
    this.frameAll(smooth)
  }

  look(side: Side) {
    const c = this.content().getCenter(new THREE.Vector3())
    const d = {
      front: [0, -1, 0],
      back: [0, 1, 0],
      left: [-1, 0, 0],
      right: [1, 0, 0],
      top: [0, -1e-4, 1],
      below: [0, -1e-4, -1],
    }[side]
    const r = this.content().getBoundingSphere(new THREE.Sphere()).radius * 6
    // far away through a long lens: as good as without perspective
    this.camera.fov = 12
    void this.controls.setLookAt(c.x + d[0] * r, c.y + d[1] * r, c.z + d[2] * r, c.x, c.y, c.z, false)
    this.frameAll(false)
  }

  perspective() {
    this.camera.fov = 42
    this.camera.updateProjectionMatrix()
  }

  /** World to clip space, row by row, for selections that the server computes. */
  matrix(): number[] {
    this.camera.updateMatrixWorld()
    const m = new THREE.Matrix4().multiplyMatrices(
      this.camera.projectionMatrix,
      this.camera.matrixWorldInverse,
    )
    return m.transpose().toArray()
  }

  /** While a selecting tool is active, the left button draws and the right one turns. */
  setTool(active: boolean) {
    this.controls.mouseButtons.left = active ? CameraControls.ACTION.NONE : CameraControls.ACTION.ROTATE
    this.controls.mouseButtons.right = active ? CameraControls.ACTION.ROTATE : CameraControls.ACTION.TRUCK
  }

  picture(): string {
    this.draw()
    return this.canvas.toDataURL('image/png')
  }

  private ray(e: MouseEvent): THREE.Raycaster {
    const r = this.canvas.getBoundingClientRect()
    const at = new THREE.Vector2(
      ((e.clientX - r.left) / r.width) * 2 - 1,
      1 - ((e.clientY - r.top) / r.height) * 2,
    )
    const ray = new THREE.Raycaster()
    ray.params.Points.threshold = this.content().getSize(new THREE.Vector3()).length() * 0.004
    ray.setFromCamera(at, this.camera)
    return ray
  }

  private hit(e: MouseEvent): THREE.Vector3 | null {
    const ray = this.ray(e)
    const first =
      ray.intersectObjects([this.parts.mesh], true)[0] ??
      (this.points ? ray.intersectObject(this.points)[0] : undefined)
    return (
      first?.point ??
      ray.ray.intersectPlane(new THREE.Plane(new THREE.Vector3(0, 0, 1), 0), new THREE.Vector3())
    )
  }

  /** The camera under the pointer, by its apex and base on the screen. */
  cameraAt(e: MouseEvent): number | null {
    const r = this.canvas.getBoundingClientRect()
    let best = 22
    let row: number | null = null
    for (const c of this.cameras) {
      if (!c.center || !this.parts.cameras.visible) continue
      const p = new THREE.Vector3().fromArray(c.center).project(this.camera)
      if (p.z > 1) continue
      const d = Math.hypot(
        ((p.x + 1) / 2) * r.width - (e.clientX - r.left),
        ((1 - p.y) / 2) * r.height - (e.clientY - r.top),
      )
      if (d < best) [best, row] = [d, c.row]
    }
    return row
  }

  private pointerDown = (e: PointerEvent) => {
    const tab = this.parts.box.visible
      ? this.ray(e)
          .intersectObject(this.parts.box, true)
          .find((h) => h.object.userData.axis !== undefined)
      : undefined
    if (tab && this.box && e.button === 0) {
      this.dragged = tab.object.userData as { axis: number; side: number }
      this.controls.enabled = false
      this.canvas.setPointerCapture(e.pointerId)
      return
    }
    const row = e.button === 0 ? this.cameraAt(e) : null
    if (row !== null) this.onCamera(row)
    const p = this.hit(e)
    if (p && p.length() < 1e4) this.controls.setOrbitPoint(p.x, p.y, p.z)
  }

  private pointerMove = (e: PointerEvent) => {
    if (!this.dragged || !this.box) return
    const { axis, side } = this.dragged
    const turn = new THREE.Matrix4().makeRotationZ(this.box.turn)
    const direction = new THREE.Vector3().setComponent(axis, 1).applyMatrix4(turn)
    const middle = new THREE.Vector3(
      ...(this.box.low.map((l, k) => (l + this.box!.high[k]) / 2) as [number, number, number]),
    )
    middle.setComponent(axis, side ? this.box.high[axis] : this.box.low[axis])
    const start = middle.clone().applyMatrix4(turn)
    const line = this.ray(e).ray
    // place on the axis of the tab nearest to the pointer's ray
    const w = start.clone().sub(line.origin)
    const b = direction.dot(line.direction)
    const shift = (b * line.direction.dot(w) - direction.dot(w)) / Math.max(1 - b * b, 1e-6)
    const box: Box = { low: [...this.box.low], high: [...this.box.high], turn: this.box.turn }
    const gap = 0.02 * Math.max(...box.high.map((h, k) => h - box.low[k]))
    if (side) box.high[axis] = Math.max(box.high[axis] + shift, box.low[axis] + gap)
    else box.low[axis] = Math.min(box.low[axis] + shift, box.high[axis] - gap)
    this.setBox(box)
  }

  private pointerUp = () => {
    if (!this.dragged) return
    this.dragged = null
    this.controls.enabled = true
    if (this.box) this.onBox(this.box)
  }

  private doubleClick = (e: MouseEvent) => {
    const p = this.hit(e)
    if (!p) return
    const away = this.camera.position.distanceTo(p) * 0.45
    const d = this.camera.position.clone().sub(p).setLength(away).add(p)
    void this.controls.setLookAt(d.x, d.y, d.z, p.x, p.y, p.z, true)
    this.request()
  }
}
