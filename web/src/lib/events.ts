/**
 * Server-sent events for all tabs of a browser through one connection.
 *
 * A browser keeps six connections to a server, and every stream of events takes one for good: with some tabs open none
 * would be left. So the tabs hold a lock in turn (Web Locks): who holds it listens to the server and passes on what it
 * hears (BroadcastChannel); when its tab is closed the next one goes on. Where a browser has no such lock each listens.
 */
export interface EventStream {
  close: () => void
}

export interface Heard {
  event: (kind: string, data: string) => void
  connected: (there: boolean) => void
}

type Message =
  { kind: 'event'; name: string; data: string } | { kind: 'connected'; there: boolean } | { kind: 'ask' }

/** After a stream that the browser has given up, so long until it is tried again (ms). */
const AGAIN = 1500

export function listenTogether(url: string, names: readonly string[], heard: Heard): EventStream {
  const channel = typeof BroadcastChannel === 'undefined' ? null : new BroadcastChannel(`events ${url}`)
  const latest = new Map<string, string>()
  const over = new AbortController()
  let there = false
  let leading = false
  let source: EventSource | null = null

  const tell = (m: Message) => channel?.postMessage(m)
  function event(name: string, data: string) {
    latest.set(name, data)
    heard.event(name, data)
  }
  function connected(now: boolean) {
    there = now
    heard.connected(now)
  }
  channel?.addEventListener('message', (e: MessageEvent<Message>) => {
    const m = e.data
    if (m.kind === 'ask') {
      if (!leading) return
      tell({ kind: 'connected', there })
      for (const [name, data] of latest) tell({ kind: 'event', name, data })
    } else if (leading) return
    else if (m.kind === 'event') event(m.name, m.data)
    else connected(m.there)
  })

  function open() {
    source = new EventSource(url)
    const both = (now: boolean) => {
      connected(now)
      tell({ kind: 'connected', there: now })
    }
    for (const name of names)
      source.addEventListener(name, (e) => {
        const data = (e as MessageEvent<string>).data
        if (!there) both(true)
        event(name, data)
        tell({ kind: 'event', name, data })
      })
    source.addEventListener('open', () => both(true))
    source.addEventListener('error', () => {
      both(false)
      if (source?.readyState === EventSource.CLOSED && !over.signal.aborted) setTimeout(open, AGAIN)
    })
  }
  /** Listen to the server for as long as this tab is there. */
  function lead() {
    leading = true
    if (!over.signal.aborted) open()
    return new Promise<void>((done) => over.signal.addEventListener('abort', () => done()))
  }

  const locks = typeof navigator === 'undefined' ? undefined : navigator.locks
  if (locks && channel) {
    tell({ kind: 'ask' })
    locks.request(`events ${url}`, { signal: over.signal }, lead).catch(() => undefined)
  } else void lead()

  return {
    close() {
      over.abort()
      source?.close()
      channel?.close()
    },
  }
}
