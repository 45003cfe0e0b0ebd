import { expect, test, vi } from 'vitest'
import { Nearer } from '../src/world/Nearer'

const data = new ArrayBuffer(4)

function made(ask = vi.fn(async () => data)) {
  const show = vi.fn()
  const nearer = new Nearer(() => ({ matrix: [1], height: 10 }), show)
  nearer.source = ask
  return { nearer, show, ask }
}

test('more is fetched once while the view rests, and again after it moved', async () => {
  const { nearer, show, ask } = made()
  nearer.rests(1000)
  nearer.rests(1200)
  expect(ask).not.toHaveBeenCalled()
  nearer.rests(1400)
  nearer.rests(1500)
  await vi.waitFor(() => expect(show).toHaveBeenCalledWith(data))
  expect(ask).toHaveBeenCalledTimes(1)
  nearer.moved()
  nearer.rests(2000)
  nearer.rests(2500)
  await vi.waitFor(() => expect(ask).toHaveBeenCalledTimes(2))
})

test('an answer that comes after the view moved is not shown', async () => {
  let answer: (v: ArrayBuffer) => void = () => {}
  const { nearer, show } = made(vi.fn(() => new Promise<ArrayBuffer>((done) => (answer = done))))
  nearer.rests(0)
  nearer.rests(500)
  nearer.moved()
  answer(data)
  await new Promise((done) => setTimeout(done, 0))
  expect(show).not.toHaveBeenCalled()
})

test('where no more is wanted what was shown goes, and a failure is no trouble', async () => {
  const { nearer, show, ask } = made(vi.fn(async () => Promise.reject(new Error('gone'))))
  nearer.rests(0)
  nearer.rests(500)
  await vi.waitFor(() => expect(nearer.source).toBeNull())
  nearer.rests(1500)
  expect(ask).toHaveBeenCalledTimes(1)
  nearer.source = null
  expect(show).toHaveBeenLastCalledWith(null)
})
