import * as THREE from 'three'
import type { Clouds } from './Clouds'
import type { Eye } from './Eye'
import type { Facing } from './level'
import type { Surroundings } from './Surroundings'
import type { Part } from './World'

/** Where one looks from: all of what is shown, the first view, straight at a side, from a place. */
export class Views {
  constructor(
    private readonly eye: Eye,
    private readonly parts: Record<Part, THREE.Group>,
    private readonly about: Surroundings,
    private readonly clouds: Clouds,
    private readonly request: () => void,
  ) {}

  /** What there is to be looked at. */
  content(): THREE.Box3 {
    const box = new THREE.Box3()
    if (this.parts.mesh.children.length) box.expandByObject(this.parts.mesh)
    if (this.about.box && box.isEmpty()) box.expandByObject(this.parts.box)
    if (box.isEmpty() && this.clouds.points) box.expandByObject(this.clouds.points)
    for (const c of this.about.cameras)
      if (c.center && this.parts.cameras.visible) box.expandByPoint(new THREE.Vector3().fromArray(c.center))
    if (box.isEmpty()) box.set(new THREE.Vector3(-1, -1, 0), new THREE.Vector3(1, 1, 1))
    return box
  }

  frameAll(smooth = true) {
    this.eye.frame(this.content(), smooth)
    this.request()
  }

  /** The first view: a little from above, from the front. */
  home(smooth = false) {
    this.eye.home(this.content(), smooth)
    this.request()
  }

  /** Straight on at the subject: the mesh or what the keep box holds. */
  look(side: Facing) {
    const subject = new THREE.Box3()
    if (this.parts.mesh.children.length) subject.expandByObject(this.parts.mesh)
    else if (this.about.box) subject.expandByObject(this.parts.box)
    this.eye.look(side, subject.isEmpty() ? this.content() : subject, this.content())
    this.request()
  }

  /** Turn to a place, from its side of the subject's middle. */
  lookAt(at: [number, number, number]) {
    const c = this.content().getCenter(new THREE.Vector3())
    this.eye.comeTo(new THREE.Vector3(...at), c)
    this.request()
  }

  perspective() {
    this.eye.perspective()
  }
}
