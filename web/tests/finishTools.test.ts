import { markRaw, nextTick, ref, shallowRef } from 'vue'
import { describe, expect, it, vi } from 'vitest'
import FinishTools from '@/components/FinishTools.vue'
import type { Draft } from '@/api/client'
import type { ChosenFaces } from '@/composables/useChosenFaces'
import { mount } from './mount'

function tools(faces: number, trail: number[][] = [], metric = true) {
  const chosen = markRaw({
    where: shallowRef(faces ? [{ by: 'rims' }] : []),
    faces: ref(faces),
    looking: ref(0),
    how: ref('replace'),
    choose: vi.fn(),
    change: vi.fn(),
    clear: vi.fn(),
  }) as unknown as ChosenFaces
  const draft = { done: 1, redo: 0, faces: 100, edits: [], on: 1, making: null } as Draft
  const added = vi.fn()
  const measured = vi.fn()
  const shown = mount(FinishTools, {
    ...{ draft, chosen, waiting: 0, picking: false, picked: 0, trail, metric, front: true },
    onAdd: added,
    onMeasure: measured,
  })
  const button = (name: string) =>
    shown.all('button').find((b) => b.textContent!.trim() === name) as HTMLButtonElement
  const press = async (name: string) => {
    button(name).click()
    await nextTick()
  }
  return { shown, press, button, added, measured }
}

describe('tools of Finish', () => {
  it('does to what is selected what is pressed', async () => {
    const { shown, press, added } = tools(5)
    await press('Delete')
    await press('Shape')
    await press('Flatten')
    expect(added.mock.calls).toEqual([
      [{ kind: 'delete', where: [{ by: 'rims' }] }],
      [{ kind: 'flatten', soft: 3, where: [{ by: 'rims' }] }],
    ])
    shown.close()
  })
  it('sends lengths in metres', async () => {
    const { shown, press, added } = tools(0)
    await press('Size')
    await press('Decimate within')
    await press('Even triangles of')
    expect(added.mock.calls).toEqual([[{ kind: 'decimate', error: 0.0002 }], [{ kind: 'even', edge: 0.005 }]])
    shown.close()
  })
  it('does nothing to nothing', () => {
    const { shown, button } = tools(0)
    expect(button('Delete').disabled).toBe(true)
    expect(button('Keep only this').disabled).toBe(true)
    shown.close()
  })
  it('tells lengths along a chain, and when there is no scale', async () => {
    const trail = [
      [0, 0, 0],
      [0.3, 0, 0],
      [0.3, 0, 0.4],
    ]
    const { shown, press, measured } = tools(0, trail, false)
    await press('Measure')
    expect(measured).toHaveBeenCalledWith(true)
    expect(shown.find('dl')!.textContent).toContain('500 mm')
    expect(shown.find('dl')!.textContent).toContain('700 mm')
    expect(shown.find('.part')!.textContent).toContain('no scale')
    shown.close()
  })
})
