import type * as THREE from 'three'
import { draggedBox } from './boxDrag'
import type { Box } from './build'

/** What a pointer can take hold of. */
export interface Held {
  canvas: HTMLElement
  ray(e: MouseEvent): THREE.Raycaster
  hit(e: MouseEvent): THREE.Vector3 | null
  /** The keep box and its tabs, while they are shown. */
  tabs(): { box: Box; object: THREE.Object3D } | null
  cameraAt(e: MouseEvent): number | null
  grab(what: 'down' | 'move' | 'up', ray: THREE.Raycaster, row: number | null): boolean
  hold(on: boolean): void
  turnAbout(p: THREE.Vector3): void
  goNear(p: THREE.Vector3): void
  pickCamera(row: number): void
  /** A press without a move, on nothing that can be taken hold of. */
  point(e: PointerEvent): void
  boxMoves(box: Box): void
  boxMoved(box: Box): void
}

/** A pointer in the world: drags a tab of the keep box, picks a camera, or says about what the view turns. */
export class Hands {
  private dragged: { axis: number; side: number; box: Box; before: Box } | null = null
  private grabbed = false
  private pressed: [number, number] | null = null

  constructor(private readonly held: Held) {
    const { canvas } = held
    canvas.addEventListener('pointerdown', this.down, { capture: true })
    canvas.addEventListener('pointermove', this.move)
    canvas.addEventListener('pointerup', this.up)
    canvas.addEventListener('pointercancel', this.cancel)
    canvas.addEventListener('dblclick', this.twice)
  }

  private take(e: PointerEvent) {
    this.held.hold(true)
    this.held.canvas.setPointerCapture(e.pointerId)
  }

  private readonly down = (e: PointerEvent) => {
    const first = e.button === 0
    this.pressed = null
    const tabs = first ? this.held.tabs() : null
    const tab =
      tabs &&
      this.held
        .ray(e)
        .intersectObject(tabs.object, true)
        .find((h) => h.object.userData.axis !== undefined)
    if (tabs && tab) {
      const { axis, side } = tab.object.userData as { axis: number; side: number }
      this.dragged = { axis, side, box: tabs.box, before: tabs.box }
      this.take(e)
      return
    }
    const row = first ? this.held.cameraAt(e) : null
    if (row !== null) this.held.pickCamera(row)
    if (first && this.held.grab('down', this.held.ray(e), row)) {
      this.grabbed = true
      this.take(e)
      return
    }
    if (first && row === null) this.pressed = [e.clientX, e.clientY]
    const p = this.held.hit(e)
    if (p && p.length() < 1e4) this.held.turnAbout(p)
  }

  private readonly move = (e: PointerEvent) => {
    if (this.grabbed) this.held.grab('move', this.held.ray(e), null)
    if (!this.dragged) return
    const { axis, side, box } = this.dragged
    this.dragged.box = draggedBox(box, axis, side, this.held.ray(e).ray)
    this.held.boxMoves(this.dragged.box)
  }

  private readonly up = (e: PointerEvent) => {
    if (this.grabbed) this.held.grab('up', this.held.ray(e), null)
    const moved = this.dragged
    const from = this.pressed
    this.pressed = null
    if (from && Math.hypot(e.clientX - from[0], e.clientY - from[1]) < 4) this.held.point(e)
    this.end()
    if (moved) this.held.boxMoved(moved.box)
  }

  /** Taken away by the system: a box stays as it was, what was grabbed is let go. */
  private readonly cancel = (e: PointerEvent) => {
    if (this.grabbed) this.held.grab('up', this.held.ray(e), null)
    if (this.dragged) this.held.boxMoves(this.dragged.before)
    this.end()
  }

  private end() {
    if (!this.grabbed && !this.dragged) return
    this.grabbed = false
    this.dragged = null
    this.held.hold(false)
  }

  private readonly twice = (e: MouseEvent) => {
    const p = this.held.hit(e)
    if (p) this.held.goNear(p)
  }
}
