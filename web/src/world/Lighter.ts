import * as THREE from 'three'

/** A frame of the moving view is to take no longer (milliseconds). */
const FRAME = 120
/** A mesh with more triangles gets a lighter form for while the view moves. */
const HEAVY = 90_000
const LIGHT = 40_000
/** After so long without movement everything is drawn again (milliseconds). */
const STILL = 220

/** Share of the points to draw next, from how long the last frame took. */
export function nextShare(share: number, spent: number, wanted = FRAME): number {
  const change = Math.min(2, Math.max(0.3, wanted / Math.max(spent, 1)))
  return Math.min(1, Math.max(0.02, share * change))
}

interface Forms {
  full: THREE.BufferAttribute
  light: THREE.BufferAttribute | null
}

/** Draws less while the view moves, so that it turns smoothly on a slow machine, and everything when it rests. */
export class Lighter {
  private share = 1
  private movedAt = -Infinity
  private heavy = false
  private readonly forms = new Map<THREE.BufferGeometry, Forms>()
  private readonly clouds = new Set<THREE.Points>()
  private readonly workers = new Set<Worker>()

  /** Whether the view rests. */
  still(now: number) {
    return now - this.movedAt > STILL
  }

  get reduced() {
    return this.share < 1 || this.heavy
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

  /** Before a frame: choose what is drawn. */
  prepare(moved: boolean, now: number) {
    if (moved) this.movedAt = now
    const rest = this.still(now)
    if (rest) this.share = 1
    this.heavy = false
    for (const points of this.clouds) {
      const n = points.geometry.getAttribute('position').count
      points.geometry.setDrawRange(0, Math.ceil(n * this.share))
    }
    for (const [geometry, { full, light }] of this.forms) {
      const wanted = rest || !light ? full : light
      if (geometry.index !== wanted) geometry.setIndex(wanted)
      this.heavy ||= wanted === light
    }
  }

  /** After a frame of the moving view. */
  learn(spent: number) {
    this.share = nextShare(this.share, spent)
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
