/** What a loop of pictures turns round. */
export interface Turned {
  /** Move the view on by so many seconds; whether it moved. */
  advance: (seconds: number, now: number) => boolean
  /** Hand a picture to the graphics card; false when nothing has to be drawn. */
  draw: (moved: boolean, asked: boolean, now: number) => boolean
  /** A picture is on the screen, and took so many milliseconds. */
  drawn: (spent: number, moved: boolean, now: number) => void
}

/**
 * Draws when something has changed. The page never waits for a picture: the next one is begun once the graphics card
 * has signalled that the last one is done, and that is also how long it took.
 */
export class Loop {
  private asked = true
  private moved = false
  private stopped = false
  private last = performance.now()
  private underWay: { fence: WebGLSync | null; since: number; moved: boolean } | null = null

  constructor(
    private readonly gl: WebGL2RenderingContext,
    private readonly turned: Turned,
  ) {
    this.turn()
  }

  request() {
    this.asked = true
  }

  stop() {
    this.stopped = true
    if (this.underWay?.fence) this.gl.deleteSync(this.underWay.fence)
  }

  private turn = () => {
    if (this.stopped) return
    requestAnimationFrame(this.turn)
    const now = performance.now()
    this.moved = this.turned.advance(Math.min(0.1, (now - this.last) / 1000), now) || this.moved
    this.last = now
    if (!this.finished(now) || !this.turned.draw(this.moved, this.asked, now)) return
    this.underWay = {
      fence: this.gl.fenceSync(this.gl.SYNC_GPU_COMMANDS_COMPLETE, 0),
      since: now,
      moved: this.moved,
    }
    this.gl.flush()
    this.moved = this.asked = false
  }

  private finished(now: number): boolean {
    if (!this.underWay) return true
    const { fence, since, moved } = this.underWay
    // without a fence the context is lost: nothing is under way then
    if (fence && this.gl.clientWaitSync(fence, 0, 0) === this.gl.TIMEOUT_EXPIRED) return false
    if (fence) this.gl.deleteSync(fence)
    this.underWay = null
    this.turned.drawn(now - since, moved, now)
    return true
  }
}
