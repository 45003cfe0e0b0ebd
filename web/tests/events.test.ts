// @vitest-environment node
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { listenTogether, type EventStream } from '../src/lib/events'

/** An event source that says what it is told to. */
class Source {
  static all: Source[] = []
  static CLOSED = 2
  readyState = 1
  private heard = new Map<string, (e: unknown) => void>()
  constructor(readonly url: string) {
    Source.all.push(this)
  }
  addEventListener(name: string, f: (e: unknown) => void) {
    this.heard.set(name, f)
  }
  say(name: string, data?: string) {
    this.heard.get(name)?.({ data })
  }
  close() {
    this.readyState = Source.CLOSED
  }
}

/** Tabs' locks: one holds, the others wait in order. */
class Locks {
  private waiting: (() => void)[] = []
  private held = false
  request(_: string, options: { signal: AbortSignal }, work: () => Promise<void>) {
    return new Promise<void>((done, fail) => {
      const begin = () => {
        if (options.signal.aborted) return (this.next(), fail(new Error('aborted')))
        this.held = true
        void work().then(() => {
          this.held = false
          this.next()
          done()
        })
      }
      if (this.held) this.waiting.push(begin)
      else begin()
    })
  }
  private next() {
    this.waiting.shift()?.()
  }
}

const settle = () => new Promise((done) => setTimeout(done, 30))
const open: EventStream[] = []
function tab() {
  const heard: string[] = []
  const there: boolean[] = []
  const stream = listenTogether('/api/v1/jobs/events', ['jobs', 'changes'], {
    event: (kind, data) => heard.push(`${kind} ${data}`),
    connected: (now) => there.push(now),
  })
  open.push(stream)
  return { heard, there, stream }
}

beforeEach(() => {
  Source.all = []
  vi.stubGlobal('EventSource', Source)
  vi.stubGlobal('navigator', { locks: new Locks() })
})
afterEach(() => {
  open.splice(0).forEach((s) => s.close())
  vi.unstubAllGlobals()
})

describe('one stream of events for all tabs', () => {
  it('opens one connection, and every tab hears what comes', async () => {
    const a = tab()
    const b = tab()
    const c = tab()
    expect(Source.all.length).toBe(1)
    await settle()
    Source.all[0].say('open')
    Source.all[0].say('jobs', '[1]')
    await settle()
    for (const t of [a, b, c]) expect(t.heard).toEqual(['jobs [1]'])
    for (const t of [a, b, c]) expect(t.there.at(-1)).toBe(true)
  })

  it('tells a tab that comes later how things stand', async () => {
    tab()
    Source.all[0].say('open')
    Source.all[0].say('jobs', '[1]')
    Source.all[0].say('jobs', '[2]')
    Source.all[0].say('changes', '{}')
    const late = tab()
    await settle()
    expect(late.heard.sort()).toEqual(['changes {}', 'jobs [2]'])
  })

  it('goes on when the tab that listened is closed', async () => {
    const a = tab()
    const b = tab()
    a.stream.close()
    await settle()
    expect(Source.all.length).toBe(2)
    expect(Source.all[0].readyState).toBe(Source.CLOSED)
    Source.all[1].say('jobs', '[3]')
    expect(b.heard).toEqual(['jobs [3]'])
  })

  it('says to all when the server is away, and tries again when the browser has given up', async () => {
    const a = tab()
    const b = tab()
    Source.all[0].readyState = Source.CLOSED
    Source.all[0].say('error')
    await settle()
    expect(a.there.at(-1)).toBe(false)
    expect(b.there.at(-1)).toBe(false)
    await new Promise((done) => setTimeout(done, 1600))
    expect(Source.all.length).toBe(2)
  })

  it('listens by itself where there are no locks', () => {
    vi.stubGlobal('navigator', {})
    const a = tab()
    const b = tab()
    expect(Source.all.length).toBe(2)
    Source.all[0].say('jobs', '[1]')
    Source.all[1].say('jobs', '[1]')
    expect(a.heard).toEqual(['jobs [1]'])
    expect(b.heard).toEqual(['jobs [1]'])
  })
})
