import { beforeAll, expect, it, vi } from 'vitest'
import ScreenShape from '@/components/ScreenShape.vue'
import { drawnTo, isWhole, pointStates, readBits, toClip } from '@/lib/screen'
import { mount, settled } from './mount'

/** Bits as the server packs them. */
function packed(which: boolean[], of = which.length) {
  const data = new Uint8Array(8 + Math.ceil(which.length / 8))
  new DataView(data.buffer).setUint32(0, which.filter(Boolean).length, true)
  new DataView(data.buffer).setUint32(4, of, true)
  which.forEach((on, k) => on && (data[8 + (k >> 3)] |= 1 << (k & 7)))
  return data.buffer
}

it('reads one bit for each point, and what is gone is not chosen', () => {
  const bits = readBits(packed([true, false, false, true, true, false, false, false, false, true], 5000))
  expect([bits.count, bits.of]).toEqual([4, 5000])
  expect([0, 1, 3, 8, 9].map(bits.at)).toEqual([true, false, true, false, true])
  const gone = readBits(packed([false, true, false, true, false, false, false, false, false, false]))
  expect([...pointStates(10, bits, gone)]).toEqual([1, 2, 0, 2, 1, 0, 0, 0, 0, 1])
  expect([...pointStates(3, null, null)]).toEqual([0, 0, 0])
})

it('tells places on the screen as the server wants them', () => {
  expect(
    toClip(
      [
        [0, 0],
        [400, 300],
        [800, 600],
      ],
      800,
      600,
    ),
  ).toEqual([
    [-1, 1],
    [0, 0],
    [1, -1],
  ])
})

it('draws rectangles from corner to corner and lines without repeating a hand at rest', () => {
  const box = drawnTo('rectangle', drawnTo('rectangle', [[10, 10]], [20, 5]), [30, 40])
  expect(box).toEqual([
    [10, 10],
    [30, 10],
    [30, 40],
    [10, 40],
  ])
  const line = drawnTo('lasso', [[10, 10]], [10.4, 10.4])
  expect(line).toHaveLength(1)
  expect(drawnTo('lasso', line, [14, 10])).toHaveLength(2)
  expect([isWhole('brush', [[1, 1]]), isWhole('lasso', [[1, 1]])]).toEqual([true, false])
})

beforeAll(() => {
  vi.spyOn(Element.prototype, 'getBoundingClientRect').mockReturnValue({
    left: 0,
    top: 0,
    width: 1000,
    height: 500,
  } as DOMRect)
})

function surface(tool: string) {
  const done = vi.fn()
  const shape = { value: [] as number[][] }
  const at = mount(ScreenShape, {
    tool,
    world: null,
    modelValue: [] as number[][],
    'onUpdate:modelValue': (v: number[][]) => {
      shape.value = v
      at.props.modelValue = v
    },
    onDone: done,
  })
  const svg = at.host.querySelector('svg')!
  const press = (x: number, y: number, more: MouseEventInit = {}) =>
    svg.dispatchEvent(
      new MouseEvent('pointerdown', { clientX: x, clientY: y, button: 0, bubbles: true, ...more }),
    )
  const key = (k: string) => svg.dispatchEvent(new KeyboardEvent('keydown', { key: k, bubbles: true }))
  return { at, done, shape, press, key }
}

it('closes straight sides at their first corner, by a double press or by Enter, never with too few', async () => {
  const { at, done, shape, press, key } = surface('outline')
  await settled()
  press(100, 100)
  await settled()
  press(300, 100, { detail: 2 })
  expect(done).not.toHaveBeenCalled()
  await settled()
  press(300, 300)
  await settled()
  expect(shape.value).toHaveLength(3)
  press(103, 98, { shiftKey: true })
  expect(done).toHaveBeenLastCalledWith({ shift: true, alt: false })
  await settled()
  press(500, 300, { detail: 2, altKey: true })
  expect(done).toHaveBeenLastCalledWith({ shift: false, alt: true })
  key('Backspace')
  await settled()
  expect(shape.value).toHaveLength(2)
  key('Enter')
  expect(done).toHaveBeenCalledTimes(2)
  at.close()
})

it('draws a rectangle by keys alone', async () => {
  const { at, done, shape, key } = surface('rectangle')
  await settled()
  key(' ')
  for (let k = 0; k < 5; k++) key('ArrowRight')
  for (let k = 0; k < 5; k++) key('ArrowDown')
  await settled()
  expect(shape.value).toHaveLength(4)
  const [a, , c] = shape.value
  expect(c[0]).toBeGreaterThan(a[0])
  expect(c[1]).toBeGreaterThan(a[1])
  key(' ')
  expect(done).toHaveBeenCalledOnce()
  at.close()
})
