import { afterEach, beforeEach, describe, expect, it } from 'vitest'
import type { MaskEdit } from '@/api/client'
import MaskCanvas from '@/components/MaskCanvas.vue'
import { moved } from '@/lib/crosshair'
import { drag } from '@/lib/drag'
import { pinch, type Pinched } from '@/lib/pinch'
import { freshStores, mount, settled } from './mount'

const press = (on: HTMLElement, key: string, shiftKey = false) =>
  on.dispatchEvent(new KeyboardEvent('keydown', { key, shiftKey, bubbles: true, cancelable: true }))

describe('the cross that arrow keys move', () => {
  it('goes the same way on the screen across and down, and stays on the surface', () => {
    const right = moved([0.5, 0.5], { key: 'ArrowRight', shiftKey: false }, 2)!
    const down = moved([0.5, 0.5], { key: 'ArrowDown', shiftKey: false }, 2)!
    // the surface is twice as wide as high
    expect(down[1] - 0.5).toBeCloseTo(2 * (right[0] - 0.5), 9)
    const far = moved([0.5, 0.5], { key: 'ArrowRight', shiftKey: true }, 2)!
    expect(far[0] - 0.5).toBeCloseTo(10 * (right[0] - 0.5), 9)
    expect(moved([0.999, 0], { key: 'ArrowRight', shiftKey: true }, 1)).toEqual([1, 0])
    expect(moved([0.5, 0], { key: 'ArrowUp', shiftKey: true }, 1)).toEqual([0.5, 0])
    expect(moved([0.5, 0.5], { key: 'a', shiftKey: false }, 1)).toBeNull()
  })
})

describe('drawing a mask', () => {
  const edits: MaskEdit[] = []
  const canvas = (tool: string, purpose = 'add') =>
    mount(MaskCanvas, {
      tool, purpose, radius: 0.03, soft: false, path: 'a.jpg', aspect: 1.5, onEdit: (e: MaskEdit) => edits.push(e),
    }) // prettier-ignore
  let open: ReturnType<typeof canvas> | null = null
  beforeEach(() => {
    freshStores()
    edits.length = 0
  })
  afterEach(() => open?.close())

  it('takes corners by keys alone, and closes the outline on the first one', async () => {
    open = canvas('outline')
    const svg = open.find('svg')!
    const corner = async (...keys: string[]) => {
      for (const k of keys) press(svg, k, true)
      press(svg, ' ')
      await settled()
    }
    await corner()
    await corner('ArrowRight', 'ArrowRight')
    await corner('ArrowDown', 'ArrowDown')
    expect(edits).toEqual([])
    expect(open.all('circle.corner').length).toBe(3)
    await corner('ArrowLeft', 'ArrowLeft', 'ArrowUp', 'ArrowUp')
    expect(edits.length).toBe(1)
    const [edit] = edits as { kind: string; add: boolean; points: number[][] }[]
    expect([edit.kind, edit.add]).toEqual(['outline', true])
    expect(edit.points.length).toBe(3)
    expect(edit.points[1][0] - edit.points[0][0]).toBeCloseTo(0.08, 4)
    expect(edit.points[2][1] - edit.points[1][1]).toBeCloseTo(0.12, 4)
    expect(open.all('circle.corner').length).toBe(0)
  })

  it('paints along the way of the cross between two presses of Space', async () => {
    open = canvas('brush', 'away')
    const svg = open.find('svg')!
    press(svg, 'ArrowLeft', true)
    press(svg, ' ')
    for (let k = 0; k < 5; k++) press(svg, 'ArrowUp', true)
    await settled()
    expect(edits).toEqual([])
    press(svg, ' ')
    const [edit] = edits as { kind: string; add: boolean; points: number[][] }[]
    expect([edit.kind, edit.add, edit.points.length]).toEqual(['brush', false, 6])
    // what comes after is no part of it
    press(svg, 'ArrowUp', true)
    await settled()
    expect(open.find('polyline')).toBeNull()
  })

  it('leaves keys alone that are for others', () => {
    open = canvas('outline')
    const svg = open.find('svg')!
    let heard = 0
    open.host.addEventListener('keydown', () => (heard += 1))
    press(svg, 'Enter')
    press(svg, 'Escape')
    expect(heard).toBe(2)
    press(svg, 'ArrowLeft')
    expect(heard).toBe(2)
  })
})

describe('two fingers', () => {
  const touch = (on: EventTarget, type: string, pointerId: number, at: [number, number]) =>
    on.dispatchEvent(
      new PointerEvent(type, {
        pointerId,
        pointerType: 'touch',
        clientX: at[0],
        clientY: at[1],
        bubbles: true,
      }),
    )

  it('enlarge by how far they part, about their middle, and take away what the first had begun', () => {
    const host = document.body.appendChild(document.createElement('div'))
    const [seen, ended]: [Pinched[], string[]] = [[], []]
    host.addEventListener('pointerdown', (e) => {
      drag(e, {
        move: () => ended.push('moved'),
        up: () => ended.push('up'),
        cancel: () => ended.push('gone'),
      })
    })
    const stop = pinch(host, (now) => seen.push(now))
    touch(host, 'pointerdown', 1, [100, 100])
    touch(host, 'pointerdown', 2, [200, 100])
    expect(ended).toEqual(['gone'])
    touch(window, 'pointermove', 2, [300, 100])
    touch(window, 'pointermove', 1, [100, 160])
    expect(seen[0]).toEqual({ by: 2, middle: [200, 100], moved: [50, 0] })
    expect(seen[1].by).toBeCloseTo(Math.hypot(200, 60) / 200, 9)
    touch(window, 'pointerup', 1, [100, 160])
    touch(window, 'pointermove', 2, [400, 100])
    expect(seen.length).toBe(2)
    // the next finger alone begins anew
    touch(window, 'pointerup', 2, [400, 100])
    touch(host, 'pointerdown', 3, [10, 10])
    touch(window, 'pointerup', 3, [10, 10])
    expect(ended).toEqual(['gone', 'up'])
    stop()
    touch(host, 'pointerdown', 4, [0, 0])
    touch(host, 'pointerdown', 5, [9, 0])
    expect(ended.length).toBe(2)
    host.remove()
  })
})
