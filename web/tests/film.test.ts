import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import FilmStrip from '@/components/FilmStrip.vue'
import PhotoFacts from '@/components/photos/PhotoFacts.vue'
import SeenBy from '@/components/SeenBy.vue'
import SplitPane from '@/components/SplitPane.vue'
import { projectOf } from '@/stores/project'
import { freshStores, mount, photo, said, settled, serverAnswers } from './mount'

beforeEach(() => {
  freshStores()
  serverAnswers()
  localStorage.clear()
  // a page without a layout: the row is as wide as a screen
  vi.spyOn(Element.prototype, 'clientWidth', 'get').mockReturnValue(800)
  vi.spyOn(Element.prototype, 'clientHeight', 'get').mockReturnValue(74)
})
afterEach(() => {
  vi.restoreAllMocks()
  document.body.innerHTML = ''
})

const many = (n: number) => Array.from({ length: n }, (_, k) => photo(`p${k}.jpg`))

it('photos in a row are gone through by keys, and only those in view are there', async () => {
  const project = projectOf(1)
  project.photos = many(500)
  project.selected = 'p3.jpg'
  const row = mount(FilmStrip, {})
  await settled()
  expect(row.all('.one').length).toBeGreaterThan(3)
  expect(row.all('.one').length).toBeLessThan(60)
  const press = (key: string) =>
    row.find('.film')!.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true }))
  press('ArrowRight')
  expect(project.selected).toBe('p4.jpg')
  press('PageDown')
  expect(project.selected).toBe('p14.jpg')
  press('End')
  expect(project.selected).toBe('p499.jpg')
  press('ArrowRight')
  expect(project.selected).toBe('p499.jpg')
  press('Home')
  expect(project.selected).toBe('p0.jpg')
  row.close()
})

it('photos in a row keep the order and the choice of the sheet, and say what became of them', async () => {
  const project = projectOf(1)
  project.photos = many(6)
  project.photos[2] = photo('p2.jpg', { kept: false })
  project.selected = 'p5.jpg'
  const row = mount(FilmStrip, {
    order: ['p5.jpg', 'p2.jpg', 'p0.jpg'],
    only: ['p0.jpg', 'p2.jpg', 'p5.jpg'],
  })
  await settled()
  expect(row.all('.one').map((b) => b.getAttribute('aria-label'))).toEqual(['p5.jpg', 'p2.jpg', 'p0.jpg'])
  expect(row.all('.one.on').length).toBe(1)
  expect(row.all('.one')[1].textContent).toBe('⌀')
  row.all('.one')[1].click()
  expect(project.selected).toBe('p2.jpg')
  row.close()
})

it('a pane with all the room leaves the other out, and gives it back', async () => {
  const pane = mount(SplitPane, { name: 'test', aspect: 1.5, full: true })
  expect(pane.all('.pane').length).toBe(1)
  expect(pane.find('[role=separator]')).toBeNull()
  pane.props.full = false
  await settled()
  expect(pane.all('.pane').length).toBe(2)
  // the line moves by keys, and back to where it belongs by Home
  const line = pane.find('[role=separator]')!
  const at = () => Number(line.getAttribute('aria-valuenow'))
  const before = at()
  line.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowLeft', bubbles: true }))
  await settled()
  expect(at()).toBe(before + 2)
  line.dispatchEvent(new KeyboardEvent('keydown', { key: 'Home', bubbles: true }))
  await settled()
  expect(at()).toBe(before)
  pane.close()
})

it('the facts of a photo are told as far as they are known', () => {
  const bare = mount(PhotoFacts, { photo: photo('a.jpg', { problem: said('is no photo.') }) })
  expect(bare.find('.bad')!.textContent).toContain('is no photo.')
  expect(bare.all('p').length).toBe(1)
  bare.close()
  const planned = photo('b.jpg', {
    width: 1600,
    height: 1200,
    camera: 'P4',
    focal_px: 1849,
    planned: [1, 0, 0.5],
  })
  const full = mount(PhotoFacts, { photo: planned })
  expect(full.host.textContent).toContain('1600 × 1200 · P4')
  // a quarter turn from the front, a metre away
  expect(full.host.textContent).toContain('90° round, 1.00 m away, 0.50 m high')
  full.close()
})

it('photos that see a spot come best first, each with the patch outlined', async () => {
  const project = projectOf(1)
  project.photos = many(6).map((p) => ({ ...p, width: 400, height: 300 }))
  project.selected = 'p0.jpg'
  const sight = (k: number, more: object = {}) => ({
    photo: `p${k}.jpg`,
    row: k,
    at: [100 + k, 80],
    outline: [
      [90, 70],
      [110, 70],
      [110, 90],
    ],
    angle_deg: 12.4,
    gsd: 0.0005,
    clear: 0.75,
    weight: 1,
    ...more,
  })
  const seen = { of: 6, side: 0.02, normal: [1, 0, 0], photos: [sight(4), sight(2)] }
  const pane = mount(SeenBy, { seen })
  await settled()
  expect(pane.find('[role=status]')!.textContent).toContain('2 of 6 photos see this spot, best first')
  expect(project.selected).toBe('p4.jpg')
  expect(pane.find('polygon')!.getAttribute('points')).toBe('90,70 110,70 110,90')
  expect(pane.find('.photo-words')!.textContent).toBe('p4.jpg · 1 of 2 · 12° off straight on · 25 % hidden')
  project.selected = 'p2.jpg'
  await settled()
  expect(pane.find('.photo-words')!.textContent).toContain('2 of 2')
  // the next spot begins with its best again
  pane.props.seen = { ...seen, photos: [sight(5), sight(2), sight(1)] }
  await settled()
  expect(project.selected).toBe('p5.jpg')
  expect(pane.find('.photo-words')!.textContent).toContain('1 of 3')
  pane.props.seen = { ...seen, photos: [] }
  await settled()
  expect(pane.find('[role=status]')!.textContent).toContain('None of 6 photos sees this spot')
  expect(pane.find('polygon')).toBeNull()
  pane.close()
})
