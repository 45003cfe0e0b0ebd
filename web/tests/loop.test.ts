import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { Loop } from '@/world/Loop'

let next: (() => void) | null = null
let done = false
const gl = {
  SYNC_GPU_COMMANDS_COMPLETE: 1,
  TIMEOUT_EXPIRED: 2,
  fenceSync: vi.fn(() => ({})),
  clientWaitSync: () => (done ? 3 : 2),
  deleteSync: vi.fn(),
  flush: () => {},
}
const frame = () => {
  const turn = next
  next = null
  turn?.()
}

beforeEach(() => {
  done = false
  gl.fenceSync.mockClear()
  vi.useFakeTimers()
  vi.stubGlobal('requestAnimationFrame', (f: () => void) => ((next = f), 1))
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

function loop(moves = () => false) {
  const draw = vi.fn((moved: boolean, asked: boolean) => moved || asked)
  const drawn = vi.fn()
  return { it: new Loop(gl as never, { advance: moves, draw, drawn }), draw, drawn }
}

test('the next picture waits until the last one is done, and its time is told', () => {
  const { it, draw, drawn } = loop()
  expect(draw).toHaveBeenCalledTimes(1) // the first one, unasked
  it.request()
  vi.advanceTimersByTime(40)
  frame()
  expect(draw).toHaveBeenCalledTimes(1)
  expect(drawn).not.toHaveBeenCalled()
  done = true
  vi.advanceTimersByTime(40)
  frame()
  expect(drawn).toHaveBeenCalledWith(80, false, expect.any(Number))
  expect(draw).toHaveBeenLastCalledWith(false, true, expect.any(Number))
  expect(gl.fenceSync).toHaveBeenCalledTimes(2)
  frame()
  frame()
  expect(gl.fenceSync).toHaveBeenCalledTimes(2) // nothing was asked for: nothing is drawn
})

test('a movement while a picture is under way is not lost', () => {
  let moving = false
  const { draw } = loop(() => moving)
  moving = true
  frame()
  moving = false
  done = true
  frame()
  expect(draw).toHaveBeenLastCalledWith(true, false, expect.any(Number))
})

test('a lost context holds nothing up, and a stopped loop turns no more', () => {
  gl.fenceSync.mockImplementationOnce(() => null as never)
  const { it, draw } = loop()
  it.request()
  frame()
  expect(draw).toHaveBeenCalledTimes(2)
  it.stop()
  frame()
  expect(next).toBeNull()
})
