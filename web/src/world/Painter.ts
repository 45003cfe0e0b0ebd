import * as THREE from 'three'
import type { Eye } from './Eye'
import type { Lighter } from './Lighter'
import type { Part } from './World'

/** Puts the world on the screen: whole, in slices of the clouds, or two versions with a line between them. */
export class Painter {
  constructor(
    private readonly renderer: THREE.WebGLRenderer,
    private readonly scene: THREE.Scene,
    private readonly eye: Eye,
    private readonly parts: Record<Part, THREE.Group>,
    private readonly second: THREE.Group,
    private readonly lighter: Lighter,
  ) {}

  /** More points of the clouds over what is on the screen. */
  drawSlice(split: number | null) {
    const shown = Object.entries(this.parts)
      .filter(([k, g]) => k !== 'cloud' && g.visible)
      .map(([, g]) => g)
    shown.forEach((g) => (g.visible = false))
    this.renderer.autoClear = false
    this.draw(split)
    this.renderer.autoClear = true
    shown.forEach((g) => (g.visible = true))
  }

  /** Everything, at once. */
  drawAll(split: number | null) {
    this.lighter.prepare(false, performance.now())
    this.draw(split)
    while (this.lighter.slice()) this.drawSlice(split)
  }

  /** One picture; `split` is where the line between two versions is (0..1 of the width), null without one. */
  draw(split: number | null) {
    const { x: w, y: h } = this.renderer.getSize(new THREE.Vector2())
    if (split === null) {
      this.second.visible = false
      this.renderer.render(this.scene, this.eye.camera)
      return
    }
    const at = Math.round(w * split)
    this.renderer.setScissorTest(true)
    for (const [side, x, width] of [
      [0, 0, at],
      [1, at, w - at],
    ] as const) {
      this.renderer.setScissor(x, 0, width, h)
      const first = [this.parts.mesh, this.parts.cloud, this.parts.cameras]
      const shown = first.map((g) => g.visible)
      if (side === 1) first.forEach((g) => (g.visible = false))
      this.second.visible = side === 1
      this.renderer.render(this.scene, this.eye.camera)
      first.forEach((g, k) => (g.visible = shown[k]))
    }
    this.renderer.setScissorTest(false)
  }
}
