import { createApp, defineComponent, h } from 'vue'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { singles, tables, useKeys } from '@/composables/useKeys'
import { drag } from '@/lib/drag'
import { isSingle, isTaken, matches } from '@/lib/keys'

const press = (key: string, more: Partial<KeyboardEvent> = {}) =>
  new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true, ...more } as KeyboardEventInit)

describe('keys', () => {
  it('match what is held with them, with the command key as Ctrl', () => {
    expect(matches('Ctrl+Z', press('z', { ctrlKey: true }))).toBe(true)
    expect(matches('Ctrl+Z', press('z', { metaKey: true }))).toBe(true)
    expect(matches('Ctrl+Z', press('Z', { ctrlKey: true, shiftKey: true }))).toBe(false)
    expect(matches('Ctrl+Shift+Z', press('Z', { ctrlKey: true, shiftKey: true }))).toBe(true)
    expect(matches('F', press('f', { ctrlKey: true }))).toBe(false)
    expect(matches('F', press('f', { altKey: true }))).toBe(false)
    // the sign needs Shift on some keyboards
    expect(matches('?', press('?', { shiftKey: true }))).toBe(true)
  })

  it('single ones are letters and digits', () => {
    expect(['F', '7', 'é'].every(isSingle)).toBe(true)
    expect(['Delete', '?', 'Ctrl+Z'].some(isSingle)).toBe(false)
  })

  it('belong to what is typed into, and to a dialog', () => {
    document.body.innerHTML = '<input id="a"><div role="dialog"><b id="b"></b></div><i id="c"></i>'
    const taken = ['a', 'b', 'c'].map((id) => isTaken(document.getElementById(id)))
    expect(taken).toEqual([true, true, false])
  })
})

describe('a table of keys', () => {
  afterEach(() => {
    singles.value = true
    document.body.innerHTML = ''
  })

  function mounted(act: () => void, close: () => void) {
    const host = document.body.appendChild(document.createElement('div'))
    const app = createApp(
      defineComponent(() => {
        useKeys('keys.world', [
          { keys: 'F', says: 'keys.frame', act },
          { keys: 'Escape', says: 'keys.close', act: close, typing: true },
        ])
        return () => h('input', { id: 'field' })
      }),
    )
    app.mount(host)
    return app
  }

  it('acts while its component is there, and is listed meanwhile', () => {
    const act = vi.fn()
    const app = mounted(act, vi.fn())
    expect(tables.map((x) => x.rows.map((r) => r.keys))).toEqual([['F', 'Escape']])
    const e = press('f')
    window.dispatchEvent(e)
    expect(act).toHaveBeenCalledTimes(1)
    expect(e.defaultPrevented).toBe(true)
    app.unmount()
    window.dispatchEvent(press('f'))
    expect(act).toHaveBeenCalledTimes(1)
    expect(tables).toHaveLength(0)
  })

  it('leaves typing alone, but for what is meant to count there too', () => {
    const [act, close] = [vi.fn(), vi.fn()]
    const app = mounted(act, close)
    const field = document.getElementById('field')!
    field.dispatchEvent(press('f'))
    field.dispatchEvent(press('Escape'))
    expect([act.mock.calls.length, close.mock.calls.length]).toEqual([0, 1])
    app.unmount()
  })

  it('letters and digits alone can be switched off', () => {
    const [act, close] = [vi.fn(), vi.fn()]
    const app = mounted(act, close)
    singles.value = false
    window.dispatchEvent(press('f'))
    window.dispatchEvent(press('Escape'))
    expect([act.mock.calls.length, close.mock.calls.length]).toEqual([0, 1])
    app.unmount()
  })
})

describe('a drag', () => {
  const pointer = (kind: string, pointerId: number, clientX = 0) =>
    Object.assign(new Event(kind), { pointerId, clientX }) as unknown as PointerEvent

  it('follows its own pointer until that is let go', () => {
    const at: number[] = []
    const up = vi.fn()
    drag(pointer('pointerdown', 1), { move: (e) => at.push(e.clientX), up })
    window.dispatchEvent(pointer('pointermove', 1, 10))
    window.dispatchEvent(pointer('pointermove', 2, 99))
    window.dispatchEvent(pointer('pointerup', 2))
    window.dispatchEvent(pointer('pointermove', 1, 20))
    window.dispatchEvent(pointer('pointerup', 1))
    window.dispatchEvent(pointer('pointermove', 1, 30))
    expect(at).toEqual([10, 20])
    expect(up).toHaveBeenCalledTimes(1)
  })

  it('ends without counting when the pointer is taken away', () => {
    const [up, cancel] = [vi.fn(), vi.fn()]
    for (const away of [pointer('pointercancel', 1), press('Escape')]) {
      drag(pointer('pointerdown', 1), { move: vi.fn(), up, cancel })
      window.dispatchEvent(away)
      window.dispatchEvent(pointer('pointerup', 1))
    }
    expect([up.mock.calls.length, cancel.mock.calls.length]).toEqual([0, 2])
  })
})
