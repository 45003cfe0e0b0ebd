import { Latest, Superseded } from '@/lib/latest'

/** The view has rested for so long before more points are asked for (milliseconds). */
const REST = 350

/** Fetches what a cloud holds besides what is drawn of it, where one looks. */
export type AskNear = (matrix: number[], height: number, signal: AbortSignal) => Promise<ArrayBuffer>

/**
 * Large clouds are drawn in part, evenly all over. While the view rests more of their points are fetched, those that are
 * in view and as many as the screen shows; the next rest has others instead.
 */
export class Nearer {
  private ask: AskNear | null = null
  private restedAt: number | null = null
  private asked = false
  private readonly latest = new Latest()

  constructor(
    private readonly from: () => { matrix: number[]; height: number },
    private readonly show: (cloud: ArrayBuffer | null) => void,
  ) {}

  /** Where more is fetched from; null where all is drawn already, or no more is wanted. */
  set source(ask: AskNear | null) {
    this.giveUp()
    this.ask = ask
    if (!ask) this.show(null)
  }

  get source() {
    return this.ask
  }

  /** The view moved. */
  moved() {
    this.giveUp()
  }

  private giveUp() {
    this.latest.giveUp()
    this.restedAt = null
    this.asked = false
  }

  /** The view rests at a time (milliseconds). */
  rests(now: number) {
    this.restedAt ??= now
    if (!this.ask || this.asked || now - this.restedAt < REST) return
    this.asked = true
    void this.fetch(this.ask)
  }

  private async fetch(ask: AskNear) {
    const { matrix, height } = this.from()
    try {
      this.show(await this.latest.ask((signal) => ask(matrix, height, signal)))
    } catch (error) {
      // without it the world is coarser, but whole
      if (!(error instanceof Superseded)) this.ask = null
    }
  }

  dispose() {
    this.ask = null
    this.latest.giveUp()
  }
}
