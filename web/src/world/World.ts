import * as THREE from 'three'
import type { CameraOut } from '@/api/client'
import { cameraLength, cameraLines, type Box, type Cloud, type CloudMode } from './build'
import { fetchBytes, Latest } from '@/lib/latest'
import { Clouds } from './Clouds'
import { Eye } from './Eye'
import { Hands } from './Hands'
import { Lighter } from './Lighter'
import { readMesh } from './loadMesh'
import { Painter } from './Painter'
import { Projector } from './Projector'
import { Views } from './Views'
import { Picker } from './Picker'
import { Shown } from './Shown'
import { dispose, nearestCamera, nearestPoint, rayAt } from './pick'
import { dressMeshes, type MeshMode } from './meshModes'
import { Loop } from './Loop'
import { Marks } from './Marks'
import { Surroundings } from './Surroundings'
import { tonesOf } from './tones'

export type { MeshMode }

export type Part = 'cameras' | 'cloud' | 'box' | 'mesh' | 'ground'

/** The 3D view: one scene, Z up, drawn only when something changes. */
export class World {
  readonly scene = new THREE.Scene()
  private readonly eye: Eye
  private readonly renderer: THREE.WebGLRenderer
  private readonly parts: Record<Part, THREE.Group>
  private readonly shown: Shown<Part>
  private readonly second = new THREE.Group()
  /** What is marked on the mesh. */
  readonly marks = new Marks(
    () => this.tones.chosen,
    () => this.about.extent * 0.006,
    () => this.request(),
  )
  private readonly watcher: ResizeObserver
  private readonly about: Surroundings
  private meshMode: MeshMode = 'textured'
  private readonly loop: Loop
  private readonly lighter = new Lighter()
  readonly picker = new Picker()
  /** Meshes on their way, of either side of the line between two versions. */
  private readonly meshes = [new Latest(), new Latest()]
  private readonly clouds: Clouds
  /** Where the line between two compared versions is, 0..1 of the width; null when nothing is compared. */
  split: number | null = null
  onCamera: (row: number) => void = () => {}
  onBox: (box: Box) => void = () => {}
  /** A point of the cloud was pressed. */
  onPoint: ((p: THREE.Vector3) => void) | null = null
  /** A spot of the mesh was pressed. */
  onSpot: ((p: THREE.Vector3) => void) | null = null
  /** Asked when a button goes down: true takes the pointer until it goes up, and the view does not turn meanwhile. */
  grab: ((what: 'down' | 'move' | 'up', ray: THREE.Raycaster, row: number | null) => boolean) | null = null
  /** Something to look at is drawn for the first time. */
  onFilled: (() => void) | null = null
  /** Told that so much more is being loaded, or less. */
  onBusy: (more: number) => void = () => {}

  private tones = tonesOf(document.documentElement.classList.contains('dark'))
  private readonly painter: Painter
  /** Where one looks from. */
  readonly views: Views
  /** Throws the chosen photo onto the mesh. */
  private readonly projector: Projector

  constructor(readonly canvas: HTMLCanvasElement) {
    this.renderer = new THREE.WebGLRenderer({
      canvas,
      antialias: false,
      alpha: true,
      preserveDrawingBuffer: true,
    })
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
    this.eye = new Eye(canvas)
    this.parts = Object.fromEntries(
      (['cameras', 'cloud', 'box', 'mesh', 'ground'] as Part[]).map((k) => [k, new THREE.Group()]),
    ) as Record<Part, THREE.Group>
    this.shown = new Shown(this.parts)
    Object.values(this.parts).forEach((g) => this.scene.add(g))
    this.scene.add(this.second, this.marks)
    this.about = new Surroundings(this.parts, {
      tones: () => this.tones,
      empty: (group) => this.empty(group),
      request: () => this.request(),
    })
    this.projector = new Projector(this.renderer, () => this.dress())
    this.clouds = new Clouds(this.parts.cloud, this.second, {
      lighter: this.lighter,
      tones: () => this.tones,
      box: () => this.about.box,
      ratio: () => this.renderer.getPixelRatio(),
      eye: () => ({ matrix: this.matrix(), height: this.canvas.height }),
      request: () => this.request(),
    })
    this.views = new Views(this.eye, this.parts, this.about, this.clouds, () => this.request())
    this.painter = new Painter(this.renderer, this.scene, this.eye, this.parts, this.second, this.lighter)
    this.scene.add(new THREE.HemisphereLight(0xffffff, 0xb9ae98, 2.2))
    const slant = new THREE.DirectionalLight(0xffffff, 1.6)
    slant.position.set(2, -3, 4)
    this.scene.add(slant)
    new Hands({
      canvas,
      ray: (e) => this.ray(e),
      hit: (e) => this.hit(e),
      tabs: () =>
        this.about.box && this.parts.box.visible ? { box: this.about.box, object: this.parts.box } : null,
      cameraAt: (e) => this.cameraAt(e),
      grab: (what, ray, row) => this.grab?.(what, ray, row) ?? false,
      hold: (on) => (this.eye.held = on),
      turnAbout: (p) => this.eye.turnAbout(p),
      goNear: (p) => {
        this.eye.goNear(p)
        this.request()
      },
      pickCamera: (row) => this.onCamera(row),
      point: (e) => {
        const p = this.onPoint && this.pointAt(e)
        if (p) this.onPoint?.(p)
        const spot = this.onSpot && this.picker.first(this.ray(e), this.parts.mesh)
        if (spot) this.onSpot?.(spot)
      },
      boxMoves: (box) => this.setBox(box),
      boxMoved: (box) => this.onBox(box),
    })
    this.watcher = new ResizeObserver(() => this.resize())
    this.watcher.observe(canvas.parentElement!)
    this.resize() // before the first picture: it has its size then
    this.loop = new Loop(this.renderer.getContext() as WebGL2RenderingContext, {
      advance: (seconds, now) => this.advance(seconds, now),
      draw: (moved, asked, now) => this.draw(moved, asked, now),
      drawn: (spent, moved, now) => this.drawn(spent, moved, now),
    })
  }

  /** Length of a square of the ground's grid. */
  get square() {
    return this.about.square
  }

  /** What the cloud that is shown holds. */
  get cloud(): Cloud | null {
    return this.clouds.cloud
  }

  /** More points of a large cloud, where one looks. */
  get nearer() {
    return this.clouds.nearer
  }

  get camera() {
    return this.eye.camera
  }

  dispose() {
    this.loop.stop()
    this.meshes.forEach((m) => m.giveUp())
    this.clouds.dispose()
    this.watcher.disconnect()
    this.eye.dispose()
    this.lighter.dispose()
    this.picker.dispose()
    this.about.dispose()
    this.projector.dispose()
    for (const group of [...Object.values(this.parts), this.second]) this.empty(group)
    this.renderer.dispose()
  }

  request() {
    this.loop?.request()
  }

  private resize() {
    const { clientWidth: w, clientHeight: h } = this.canvas.parentElement!
    if (!w || !h) return
    this.renderer.setSize(w, h, false)
    this.eye.setAspect(w / h)
    this.request()
  }

  private advance(seconds: number, now: number): boolean {
    const moved = this.eye.update(seconds)
    if (moved) this.nearer.moved()
    else if (this.lighter.still(now)) this.nearer.rests(now)
    return moved
  }

  /** While the view moves, less is drawn if a picture takes too long; when it rests, everything. */
  private draw(moved: boolean, asked: boolean, now: number): boolean {
    const rest = this.lighter.still(now)
    if (moved || asked || (rest && this.lighter.waiting)) {
      this.lighter.prepare(moved, now)
      this.painter.draw(this.split)
    } else if (!rest || !this.lighter.slice()) return false
    else this.painter.drawSlice(this.split)
    return true
  }

  private drawn(spent: number, moved: boolean, now: number) {
    if (this.parts.mesh.children.length || this.clouds.points) {
      this.onFilled?.()
      this.onFilled = null
    }
    this.lighter.learn(spent, moved, now)
  }

  show(part: Part, on: boolean) {
    this.shown.show(part, on)
    this.request()
  }

  shows(part: Part) {
    return this.shown.shows(part)
  }

  clear(...which: Part[]) {
    for (const k of which)
      if (k === 'cloud') this.clouds.clear()
      else this.empty(this.parts[k])
    this.request()
  }

  /** Take everything out of a group, and its memory back. */
  private empty(group: THREE.Group) {
    this.lighter.forget(group)
    this.picker.forget(group)
    dispose(group)
  }

  /** What is on the other side of the line between two versions; null when nothing is compared. */
  endComparing() {
    this.split = null
    this.meshes[1].giveUp()
    this.clouds.giveUpSecond()
    this.empty(this.second)
    this.request()
  }

  setCloud(data: ArrayBuffer, mode: CloudMode, size?: number, second = false) {
    this.clouds.set(data, mode, size, second)
  }

  /** Show a cloud from an address; throws `Superseded` when another one was asked for meanwhile. */
  async loadCloud(url: string, mode: CloudMode, size?: number, second = false, budget?: number) {
    await this.clouds.load(url, mode, size, second, budget)
  }

  setCloudMode(mode: CloudMode) {
    this.clouds.setMode(mode)
  }

  /** State of each point of the cloud: 0 as it is, 1 chosen, 2 gone; null for all as they are. */
  setPointStates(states: Uint8Array | null) {
    this.clouds.setStates(states)
  }

  /** Show cameras and cloud turned, while they are levelled by hand. */
  setTurn(turn: THREE.Matrix4) {
    for (const group of [this.parts.cloud, this.parts.cameras]) {
      group.setRotationFromMatrix(turn)
      group.position.setFromMatrixPosition(turn)
    }
    this.request()
  }

  /** Cameras by their states; the chosen one carries its picture as soon as that has come. */
  setCameras(cameras: CameraOut[], selected: number | null, picture?: string | null) {
    this.about.setCameras(cameras, selected, picture)
  }

  /** Cameras of a compared version, beside its cloud. */
  addSecondCameras(cameras: CameraOut[]) {
    this.second.add(cameraLines(cameras, cameraLength(cameras), null, this.tones))
    this.request()
  }

  setBox(box: Box | null) {
    this.about.setBox(box)
    if (box) this.clouds.fade(box)
  }

  setGround(extent: number) {
    this.about.setGround(extent)
  }

  /** Daylight or dusk: everything that has a tone of its own is drawn anew in it. */
  setDusk(dusk: boolean) {
    if (this.tones === tonesOf(dusk)) return
    this.tones = tonesOf(dusk)
    this.clouds.setTones(this.tones)
    this.about.drawAnew()
    this.request()
  }

  setShape(object: THREE.Object3D) {
    this.empty(this.parts.mesh)
    this.parts.mesh.add(object)
    this.request()
  }

  /** The mesh that was set as a shape. */
  get shape(): THREE.Mesh | null {
    const [first] = this.parts.mesh.children
    return first instanceof THREE.Mesh ? first : null
  }

  /** Show a mesh; throws `Superseded` when another one was asked for meanwhile. */
  async setMesh(url: string, mode: MeshMode, second = false) {
    const mesh = await this.meshes[second ? 1 : 0].ask(async (signal) =>
      readMesh(await fetchBytes(url, signal)),
    )
    const target = second ? this.second : this.parts.mesh
    this.empty(target)
    target.add(mesh)
    this.lighter.addMesh(mesh)
    if (!second) this.picker.add(mesh)
    this.setMeshMode(mode)
  }

  setMeshMode(mode: MeshMode) {
    this.meshMode = mode
    this.dress()
  }

  private dress() {
    dressMeshes([this.parts.mesh, this.second], this.meshMode, (meshes) => this.projector.paint(meshes))
    this.request()
  }

  /** The photo that the mesh shows in its mode for that, at an address of it without distortion. */
  throwPhoto(camera: CameraOut | null, address: string | null) {
    this.projector.show(camera, address)
  }

  get mode() {
    return this.meshMode
  }

  /** World to clip space, row by row, for selections that the server computes. */
  matrix(): number[] {
    return this.eye.matrix()
  }

  /** While a selecting tool is active, the left button draws and the right one turns. */
  setTool(active: boolean) {
    this.eye.setTool(active)
  }

  picture(): string {
    this.painter.drawAll(this.split)
    return this.canvas.toDataURL('image/png')
  }

  private ray(e: MouseEvent): THREE.Raycaster {
    return rayAt(
      e,
      this.canvas,
      this.camera,
      this.views.content().getSize(new THREE.Vector3()).length() * 0.004,
    )
  }

  private hit(e: MouseEvent): THREE.Vector3 | null {
    const ray = this.ray(e)
    this.lighter.thin()
    return (
      this.picker.first(ray, this.parts.mesh) ??
      (this.clouds.points ? ray.intersectObject(this.clouds.points)[0]?.point : undefined) ??
      ray.ray.intersectPlane(new THREE.Plane(new THREE.Vector3(0, 0, 1), 0), new THREE.Vector3())
    )
  }

  /** The point of the cloud nearest to the pointer, of those within a finger's width the one in front. */
  private pointAt(e: MouseEvent): THREE.Vector3 | null {
    if (!this.clouds.points || !this.parts.cloud.visible) return null
    this.parts.cloud.updateMatrixWorld()
    const found = nearestPoint(this.clouds.points, e, this.canvas, this.camera)
    return found && found.applyMatrix4(this.parts.cloud.matrixWorld)
  }

  /** Have presses on points told to somebody; who was told before. */
  listen(to: ((p: THREE.Vector3) => void) | null) {
    const before = this.onPoint
    this.onPoint = to
    return before
  }

  /** Look through a camera, until null; the picture then is that of its photo without distortion, fitted into the view. */
  through(camera: CameraOut | null) {
    this.eye.through(camera)
    this.shown.from('cameras', !!camera)
    this.request()
  }

  /** The camera under the pointer, by its apex and base on the screen. */
  cameraAt(e: MouseEvent): number | null {
    return this.parts.cameras.visible ? nearestCamera(this.about.cameras, e, this.canvas, this.camera) : null
  }
}
