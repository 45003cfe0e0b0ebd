import * as THREE from 'three'
import type { CameraOut } from '@/api/client'
import { boxObject, cameraLength, cameraLines, groundGrid, type Box } from './build'
import { FramePicture } from './FramePicture'
import type { Tones } from './tones'

/** What stands about a subject: cameras, the keep box, the ground. All of it is drawn in the tones of the day or of dusk. */
export class Surroundings {
  cameras: CameraOut[] = []
  box: Box | null = null
  /** Length of the ground and of a square of its grid. */
  extent = 1
  square = 0
  private selected: number | null = null
  private readonly frame = new FramePicture()

  constructor(
    private readonly groups: { cameras: THREE.Group; box: THREE.Group; ground: THREE.Group },
    private readonly of: { tones: () => Tones; empty: (group: THREE.Group) => void; request: () => void },
  ) {}

  /** Cameras by their states; the chosen one carries its picture as soon as that has come. */
  setCameras(cameras: CameraOut[], selected: number | null, picture?: string | null) {
    this.cameras = cameras
    this.selected = selected
    this.frame.show(picture ?? null, () => this.drawCameras())
    this.drawCameras()
  }

  private drawCameras() {
    const { cameras, selected, frame } = this
    this.put('cameras', cameraLines(cameras, cameraLength(cameras), selected, this.of.tones(), frame.picture))
  }

  setBox(box: Box | null) {
    this.box = box
    this.put('box', box && boxObject(box, this.of.tones()))
  }

  setGround(extent: number) {
    this.extent = extent
    const { object, square } = groundGrid(extent, this.of.tones())
    this.square = square
    this.put('ground', object)
  }

  private put(where: 'cameras' | 'box' | 'ground', object: THREE.Object3D | null) {
    this.of.empty(this.groups[where])
    if (object) this.groups[where].add(object)
    this.of.request()
  }

  /** The tones are others now. */
  drawAnew() {
    if (this.cameras.length) this.drawCameras()
    if (this.groups.box.children.length) this.setBox(this.box)
    if (this.groups.ground.children.length) this.setGround(this.extent)
  }

  dispose() {
    this.frame.dispose()
  }
}
