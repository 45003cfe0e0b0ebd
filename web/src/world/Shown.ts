import type * as THREE from 'three'

/** Which parts of the world are shown: those that were not hidden; who looks through a camera sees none of the cameras. */
export class Shown<Part extends string> {
  private readonly hidden = new Set<Part>()
  private within: Part | null = null

  constructor(private readonly parts: Record<Part, THREE.Object3D>) {}

  show(part: Part, on: boolean) {
    if (on) this.hidden.delete(part)
    else this.hidden.add(part)
    this.apply(part)
  }

  /** Whether a part was not hidden. */
  shows(part: Part) {
    return !this.hidden.has(part)
  }

  /** Look from within a part, which is not seen then; or no longer. */
  from(part: Part, on: boolean) {
    this.within = on ? part : null
    this.apply(part)
  }

  private apply(part: Part) {
    this.parts[part].visible = !this.hidden.has(part) && this.within !== part
  }
}
