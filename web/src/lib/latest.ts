/** Something was asked for that is no longer wanted: nothing went wrong. */
export class Superseded extends Error {}

/**
 * Only the latest answer counts: a new question ends the one under way, and an answer that comes late is dropped,
 * however the answers are timed.
 */
export class Latest {
  private under: AbortController | null = null

  /** Ask; throws `Superseded` when something else was asked, or all was given up, before the answer came. */
  async ask<T>(question: (signal: AbortSignal) => Promise<T>): Promise<T> {
    this.giveUp()
    const mine = new AbortController()
    this.under = mine
    try {
      const answer = await question(mine.signal)
      if (mine.signal.aborted) throw new Superseded()
      return answer
    } catch (error) {
      throw mine.signal.aborted ? new Superseded() : error
    } finally {
      if (this.under === mine) this.under = null
    }
  }

  /** Nothing that is under way is wanted any more. */
  giveUp() {
    this.under?.abort()
    this.under = null
  }
}

/** The bytes at an address; an error in the server's own words when there are none. */
export async function fetchBytes(url: string, signal?: AbortSignal): Promise<ArrayBuffer> {
  const answer = await fetch(url, { signal })
  if (answer.ok) return await answer.arrayBuffer()
  const body = await answer.json().catch(() => null)
  const detail = (body as { detail?: unknown } | null)?.detail
  throw new Error(typeof detail === 'string' ? detail : `${answer.status} ${answer.statusText}`)
}
