// @vitest-environment node
import { afterEach, describe, expect, it, vi } from 'vitest'
import { fetchBytes, Latest, Superseded } from '../src/lib/latest'

const later = <T>(value: T, ms: number) => new Promise<T>((done) => setTimeout(() => done(value), ms))

describe('only the latest answer counts', () => {
  it('drops one that comes late, in whatever order they come', async () => {
    const latest = new Latest()
    const slow = latest.ask(() => later('old', 30))
    const quick = latest.ask(() => later('new', 1))
    expect(await quick).toBe('new')
    await expect(slow).rejects.toBeInstanceOf(Superseded)
  })

  it('tells the question that is no longer wanted to end', async () => {
    const latest = new Latest()
    let ended = false
    const first = latest.ask(
      (signal) =>
        new Promise((_, fail) =>
          signal.addEventListener('abort', () => {
            ended = true
            fail(new Error('aborted'))
          }),
        ),
    )
    latest.giveUp()
    await expect(first).rejects.toBeInstanceOf(Superseded)
    expect(ended).toBe(true)
  })

  it('passes on what really went wrong', async () => {
    const latest = new Latest()
    await expect(latest.ask(() => Promise.reject(new Error('no mesh')))).rejects.toThrow('no mesh')
  })
})

describe('bytes', () => {
  afterEach(() => vi.unstubAllGlobals())
  it('come, or the server says why not', async () => {
    vi.stubGlobal('fetch', () => Promise.resolve(new Response(new Uint8Array([1, 2, 3]))))
    expect((await fetchBytes('/a')).byteLength).toBe(3)
    vi.stubGlobal('fetch', () =>
      Promise.resolve(new Response('{"detail": "The layer texture has nothing yet."}', { status: 404 })),
    )
    await expect(fetchBytes('/a')).rejects.toThrow('nothing yet')
    vi.stubGlobal('fetch', () => Promise.resolve(new Response('broken', { status: 500, statusText: 'x' })))
    await expect(fetchBytes('/a')).rejects.toThrow('500')
  })
})
