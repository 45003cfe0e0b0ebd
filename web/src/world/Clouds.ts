import * as THREE from 'three'
import { fetchBytes, Latest } from '@/lib/latest'
import {
  cloudColors,
  cloudObject,
  fadeOutside,
  readCloud,
  type Box,
  type Cloud,
  type CloudMode,
} from './build'
import type { Lighter } from './Lighter'
import { Nearer } from './Nearer'
import { dispose } from './pick'
import type { Tones } from './tones'

/** What clouds are drawn with. */
interface Around {
  lighter: Lighter
  tones: () => Tones
  box: () => Box | null
  /** Pixels of the screen for one of the page. */
  ratio: () => number
  /** From where one looks: world to clip space, and the screen's height in its pixels. */
  eye: () => { matrix: number[]; height: number }
  request: () => void
}

/** The cloud that is shown, one beside it on the other side of a line, and more points of a large one where one looks. */
export class Clouds {
  points: THREE.Points | null = null
  /** More points of a large cloud, where one looks. */
  readonly nearer: Nearer
  private near: THREE.Points | null = null
  private dress: { mode: CloudMode; size: number } = { mode: 'color', size: 2.2 }
  private readonly loads = [new Latest(), new Latest()]

  constructor(
    private readonly first: THREE.Group,
    private readonly second: THREE.Group,
    private readonly around: Around,
  ) {
    this.nearer = new Nearer(around.eye, (data) => this.setNear(data))
  }

  /** What the cloud that is shown holds. */
  get cloud(): Cloud | null {
    return (this.points?.userData.cloud as Cloud | undefined) ?? null
  }

  private empty(group: THREE.Group) {
    this.around.lighter.forget(group)
    dispose(group)
    if (group === this.first) this.points = this.near = null
  }

  clear() {
    this.empty(this.first)
  }

  set(data: ArrayBuffer, mode: CloudMode, size = 2.2, second = false, whole = false) {
    const group = second ? this.second : this.first
    this.empty(group)
    const points = this.add(readCloud(data), mode, size, group, undefined, whole)
    if (second) return
    this.points = points
    this.dress = { mode, size }
  }

  /** Show a cloud from an address, of which no more than a budget comes; throws `Superseded` when another was asked for meanwhile. */
  async load(url: string, mode: CloudMode, size?: number, second = false, budget = Infinity) {
    const data = await this.loads[second ? 1 : 0].ask((s) => fetchBytes(url, s))
    this.set(data, mode, size, second, new DataView(data).getUint32(0, true) < budget)
  }

  private add(cloud: Cloud, mode: CloudMode, size: number, group: THREE.Group, like = cloud, whole = false) {
    const points = cloudObject(cloud, mode, size * this.around.ratio(), this.around.tones(), like, whole)
    points.userData.cloud = cloud
    const box = this.around.box()
    if (box) (points.material as THREE.Material).userData.box = box
    group.add(points)
    this.around.lighter.addCloud(points)
    this.around.request()
    return points
  }

  private setNear(data: ArrayBuffer | null) {
    if (this.near) {
      this.around.lighter.forget(this.near)
      this.first.remove(this.near)
      this.near.geometry.dispose()
      ;(this.near.material as THREE.Material).dispose()
      this.near = null
      this.around.request()
    }
    const whole = this.cloud
    if (!data || !whole) return
    this.near = this.add(readCloud(data), this.dress.mode, this.dress.size, this.first, whole, true)
  }

  setMode(mode: CloudMode) {
    this.dress.mode = mode
    for (const group of [this.first, this.second])
      for (const points of group.children.filter((o) => o instanceof THREE.Points)) {
        const cloud = points.userData.cloud as Cloud
        const colors = cloudColors(cloud, mode, points === this.near ? this.cloud! : cloud)
        points.geometry.setAttribute('color', new THREE.BufferAttribute(colors, 3, true))
      }
    this.around.request()
  }

  /** State of each point of the cloud: 0 as it is, 1 chosen, 2 gone; null for all as they are. */
  setStates(states: Uint8Array | null) {
    if (!this.points) return
    const at = this.points.geometry.getAttribute('pointState') as THREE.BufferAttribute
    if (states) at.set(states)
    else (at.array as Uint8Array).fill(0)
    at.needsUpdate = true
    this.around.request()
  }

  /** The box changed: what lies outside of it fades. */
  fade(box: Box) {
    for (const points of [this.points, this.near])
      if (points) fadeOutside(points.material as THREE.Material, box)
  }

  /** Other tones: of what lies outside of the box, and of what is chosen. */
  setTones(tones: Tones) {
    for (const points of [...this.first.children, ...this.second.children]) {
      const paint = (points as THREE.Points).material as THREE.Material | undefined
      ;(paint?.userData.outside as THREE.Vector4 | undefined)?.set(...tones.outside)
      ;(paint?.userData.chosen as THREE.Color | undefined)?.set(tones.chosen)
    }
  }

  /** What is under way for the other side of the line is not wanted any more. */
  giveUpSecond() {
    this.loads[1].giveUp()
  }

  dispose() {
    this.nearer.dispose()
    this.loads.forEach((l) => l.giveUp())
  }
}
