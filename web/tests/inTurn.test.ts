// @vitest-environment node
import { describe, expect, it } from 'vitest'
import { useInTurn } from '../src/composables/useInTurn'

const later = <T>(value: T, ms: number) => new Promise<T>((done) => setTimeout(() => done(value), ms))

describe('work in turn', () => {
  it('keeps the order whatever each takes, and settles once', async () => {
    const took: string[] = []
    let settled = 0
    const { waiting, act } = useInTurn<string>(
      (r) => took.push(r),
      () => settled++,
    )
    const all = [act(() => later('cut', 30)), act(() => later('undo', 1)), act(() => later('cut again', 5))]
    expect(waiting.value).toBe(3)
    await Promise.all(all)
    expect(took).toEqual(['cut', 'undo', 'cut again'])
    expect(waiting.value).toBe(0)
    await later(0, 1)
    expect(settled).toBe(1)
  })

  it('goes on after a failure, which its asker hears of', async () => {
    const took: string[] = []
    const { waiting, act } = useInTurn<string>(
      (r) => took.push(r),
      () => undefined,
    )
    const bad = act(() => Promise.reject(new Error('refused')))
    const good = act(() => later('undo', 1))
    await expect(bad).rejects.toThrow('refused')
    await good
    expect(took).toEqual(['undo'])
    expect(waiting.value).toBe(0)
  })

  it('begins each only when the one before is done', async () => {
    let under = 0
    let most = 0
    const { act } = useInTurn<number>(
      () => undefined,
      () => undefined,
    )
    const work = async () => {
      most = Math.max(most, ++under)
      await later(0, 3)
      return --under
    }
    await Promise.all([act(work), act(work), act(work)])
    expect(most).toBe(1)
  })
})
