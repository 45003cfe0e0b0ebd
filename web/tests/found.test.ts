import { expect, it } from 'vitest'
import FoundEachOther from '@/components/FoundEachOther.vue'
import { mount } from './mount'

it('draws a dot for each photo that was read and a line for each pair, stronger for more in common', async () => {
  const shown = mount(FoundEachOther, {
    read: [0, 1, 2, 3],
    matched: [
      [0, 1, 400],
      [1, 2, 25],
    ],
  })
  expect(shown.all('circle')).toHaveLength(4)
  const lines = shown.all('path').map((p) => Number(p.getAttribute('opacity')))
  expect(lines[0]).toBe(1)
  expect(lines[1]).toBeGreaterThan(0.15)
  expect(lines[1]).toBeLessThan(0.5)
  expect(shown.find('figcaption')!.textContent).toBe('4 photos read, 2 pairs found each other')
  // places round the circle do not coincide
  const places = new Set(shown.all('circle').map((c) => `${c.getAttribute('cx')} ${c.getAttribute('cy')}`))
  expect(places.size).toBe(4)
  shown.close()
})
