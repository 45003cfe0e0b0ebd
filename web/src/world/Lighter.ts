import * as THREE from 'three'

/** A frame of the moving view is to take no longer (milliseconds). */
const FRAME = 100
/** A mesh with more triangles gets a lighter form for while the view moves. */
const HEAVY = 90_000
const LIGHT = 40_000
/** After so long without movement everything is drawn again (milliseconds). */
const STILL = 220

/** Points to draw in the next frame, from how long those of the last one took. */
export function nextBudget(budget: number, spent: number, wanted = FRAME): number {
  const change = Math.min(1.5, Math.max(0.25, wanted / Math.max(spent, 1)))
  return Math.round(Math.min(5e6, Math.max(20_000, budget * change)))
}

interface Forms {
  full: THREE.BufferAttribute
  light: THREE.BufferAttribute | null
}

/** Points drawn in the first frame of a moving view, before it is known how quick the machine is. */
const FIRST = 150_000

/**
 * Draws less while the view moves, so that it turns smoothly on a slow machine. When it rests the points that are
 * missing are added slice by slice, so that a large cloud never blocks the page.
 */
export class Lighter {
  /** Points for a moving view, as learnt. */
  private budget = FIRST
  /** Points of each cloud that are on the screen. */
  private drawn = 0
  private movedAt = -Infinity
  private heavy = false
  private readonly forms = new Map<THREE.BufferGeometry, Forms>()
  private readonly clouds = new Set<THREE.Points>()
  private readonly workers = new Set<Worker>()

  /** Whether the view rests. */
  still(now: number) {
    return now - this.movedAt > STILL
  }

  private get most() {
    return Math.max(0, ...[...this.clouds].map((p) => p.geometry.getAttribute('position').count))
  }

  /** Whether something is drawn in a lighter form at present. */
  get reduced() {
    return this.heavy || this.drawn < this.most
  }

  /** Whether a light mesh has to give way to the full one. */
  get waiting() {
    return this.heavy
  }

  addCloud(points: THREE.Points) {
    this.clouds.add(points)
  }

  /** Have a lighter form made of every heavy mesh below an object. */
  addMesh(root: THREE.Object3D) {
    root.traverse((o) => {
      if (!(o instanceof THREE.Mesh)) return
      const g = o.geometry as THREE.BufferGeometry
      const full = g.index
      if (!full || full.count / 3 < HEAVY || this.forms.has(g)) return
      const forms: Forms = { full, light: null }
      this.forms.set(g, forms)
      const worker = new Worker(new URL('./lighten.worker.ts', import.meta.url), { type: 'module' })
      this.workers.add(worker)
      worker.onmessage = (e: MessageEvent<Uint32Array>) => {
        forms.light = new THREE.BufferAttribute(e.data, 1)
        this.end(worker)
      }
      worker.onerror = () => this.end(worker)
      worker.postMessage({
        index: Uint32Array.from(full.array),
        positions: Float32Array.from(g.getAttribute('position').array),
        triangles: LIGHT,
      })
    })
  }

  forget(root: THREE.Object3D) {
    root.traverse((o) => {
      if (o instanceof THREE.Points) this.clouds.delete(o)
      if (o instanceof THREE.Mesh) this.forms.delete(o.geometry as THREE.BufferGeometry)
    })
  }

  /** Before a whole frame: choose what is drawn. */
  prepare(moved: boolean, now: number) {
    if (moved) this.movedAt = now
    this.range(0, Math.min(this.budget, this.most))
    this.drawn = Math.min(this.budget, this.most)
    const rest = this.still(now)
    this.heavy = false
    for (const [geometry, { full, light }] of this.forms) {
      const wanted = rest || !light ? full : light
      if (geometry.index !== wanted) geometry.setIndex(wanted)
      this.heavy ||= wanted === light
    }
  }

  /** The next slice of points to add to what is on the screen; false when all are there. */
  slice(): boolean {
    if (this.drawn >= this.most) return false
    const next = Math.min(this.most, this.drawn + this.budget)
    this.range(this.drawn, next)
    this.drawn = next
    return true
  }

  /** Points that a pointer can hit: a thinning that is quick to search. */
  thin() {
    this.range(0, Math.min(FIRST, this.most))
  }

  private range(from: number, to: number) {
    for (const points of this.clouds) {
      const n = points.geometry.getAttribute('position').count
      points.geometry.setDrawRange(Math.min(from, n), Math.max(0, Math.min(to, n) - from))
    }
  }

  /** After a frame. The view may still move though the frame was slow: rest is counted from its end. */
  learn(spent: number, moved: boolean, now: number) {
    if (moved) this.movedAt = now
    if (this.clouds.size && this.drawn) this.budget = nextBudget(this.budget, spent)
  }

  private end(worker: Worker) {
    worker.terminate()
    this.workers.delete(worker)
  }

  dispose() {
    this.workers.forEach((w) => w.terminate())
    this.workers.clear()
    this.forms.clear()
    this.clouds.clear()
  }
}
