import { describe, expect, it, vi } from 'vitest'
import { computed, markRaw, ref, shallowRef } from 'vue'
import PlacesStrip from '@/components/PlacesStrip.vue'
import { newPlace, shownIn, type Place, type Places } from '@/composables/usePlaces'
import { mount, settled } from './mount'

const groupOf = (photo: string) => (photo.startsWith('a') ? 1 : photo.startsWith('b') ? 2 : null)
const place = (name: string, ...photos: string[]): Place => ({
  name,
  marks: Object.fromEntries(photos.map((p) => [p, [3, 4]])),
})

describe('places that join groups', () => {
  it('are named by numbers that are free', () => {
    expect(newPlace([]).name).toBe('1')
    expect(newPlace([place('1'), place('3')]).name).toBe('4')
  })
  it('are counted by group, photos of none left out', () => {
    const shown = shownIn(place('1', 'a1', 'a2', 'b1', 'c1'), groupOf)
    expect([...shown]).toEqual([
      [1, 2],
      [2, 1],
    ])
  })
  it('join only once three are marked in two photos of two groups', async () => {
    const both = ['a1', 'a2', 'b1', 'b2']
    const all = shallowRef([place('1', ...both), place('2', ...both), place('3', 'a1', 'a2', 'b1')])
    const apply = vi.fn()
    const places = {
      picking: ref(true), places: all, before: shallowRef([[]]), active: ref(0), help: shallowRef(null),
      here: computed(() => []), open: vi.fn(), set: vi.fn(), undo: vi.fn(), add: vi.fn(), remove: vi.fn(),
      place: vi.fn(), close: vi.fn(), apply,
    } as unknown as Places // prettier-ignore
    const strip = mount(PlacesStrip, { places: markRaw(places), groupOf })
    const join = () => strip.find('button.take') as HTMLButtonElement
    expect(strip.host.textContent).toContain('group 1: 2 photos, group 2: 1 photo')
    expect(join().disabled).toBe(true)
    all.value = [...all.value.slice(0, 2), place('3', ...both)]
    await settled()
    expect(join().disabled).toBe(false)
    join().click()
    expect(apply).toHaveBeenCalledOnce()
  })
})
