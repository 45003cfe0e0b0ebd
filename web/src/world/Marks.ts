import * as THREE from 'three'
import { dispose } from './pick'
import { spotObject, tintedFaces, trailObject } from './spot'

/** What is marked on the model for a while: a patch about a spot, tinted faces, a line from place to place. */
export class Marks extends THREE.Group {
  private readonly spot = new THREE.Group()
  private readonly tinted = new THREE.Group()
  private readonly trail = new THREE.Group()

  constructor(
    private readonly tone: () => number,
    private readonly thickness: () => number,
    private readonly changed: () => void,
  ) {
    super()
    this.add(this.spot, this.tinted, this.trail)
  }

  /** Show the patch about a spot of the mesh, or none. */
  setSpot(spot: { at: number[]; normal: number[]; side: number } | null) {
    this.put(this.spot, spot && spotObject(spot.at, spot.normal, spot.side, this.tone()))
  }

  /** Tint faces, given as the corners of their triangles one after the other, or none. */
  setTinted(corners: Float32Array | null) {
    this.put(this.tinted, corners?.length ? tintedFaces(corners, this.tone()) : null)
  }

  /** Show a line from place to place, or none. */
  setTrail(places: number[][]) {
    this.put(this.trail, places.length ? trailObject(places, this.thickness(), this.tone()) : null)
  }

  private put(group: THREE.Group, object: THREE.Object3D | null) {
    dispose(group)
    if (object) group.add(object)
    this.changed()
  }
}
