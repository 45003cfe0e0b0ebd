import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { defineComponent, h } from 'vue'
import type { CameraOut, Project } from '@/api/client'
import BoxStrip from '@/components/BoxStrip.vue'
import KeptBack from '@/components/KeptBack.vue'
import PhotoTable from '@/components/PhotoTable.vue'
import PairsPanel from '@/components/PairsPanel.vue'
import StripChart from '@/components/StripChart.vue'
import TrackPanel from '@/components/TrackPanel.vue'
import DispatchBench from '@/benches/DispatchBench.vue'
import PhotosBench from '@/benches/PhotosBench.vue'
import ProjectsView from '@/views/ProjectsView.vue'
import { projectOf } from '@/stores/project'
import { asked, freshStores, layer, mount, photo, said, serverAnswers, settled } from './mount'

vi.mock('@/components/WorldPane.vue', () => ({
  default: defineComponent({ props: { parts: Array }, setup: () => () => h('div', { class: 'world' }) }),
}))
const push = vi.fn()
vi.mock('vue-router', () => ({ useRouter: () => ({ push }) }))

beforeEach(() => {
  freshStores()
  serverAnswers()
  document.body.innerHTML = '<div id="tray-top"></div>'
})
afterEach(() => (document.body.innerHTML = ''))
const sent = (method: string) => asked.filter((a) => a.method === method)

const camera = (row: number, more: Partial<CameraOut> = {}): CameraOut => ({
  row,
  photo: `${row}.jpg`,
  state: 'placed',
  ties: 100 * row,
  focal: 1800,
  center: [0, 0, row],
  rotation: null,
  width: 1600,
  height: 1200,
  ...more,
})

describe('the keep box in numbers', () => {
  const box = { center: [0, 0, 0], low: [-0.5, -0.25, -0.1], high: [0.5, 0.25, 1.9], turn: 0 }
  const strip = (scaled = true) => {
    const told = { change: vi.fn(), apply: vi.fn(), close: vi.fn() }
    const on = { onChange: told.change, onApply: told.apply, onClose: told.close }
    return { ...mount(BoxStrip, { box, scaled, ...on }), ...told }
  }

  it('reads in the unit that was chosen, and without a scale in none', async () => {
    localStorage.setItem('vq-unit', 'cm')
    const r = strip()
    await settled()
    const values = r.all('input').map((i) => (i as HTMLInputElement).value)
    expect(values.join(' ')).toContain('100')
    r.close()
    const bare = strip(false)
    expect(bare.find('select')).toBeNull()
    bare.close()
  })

  it('is put on the ground in one press', () => {
    const r = strip()
    r.button('ground')!.click()
    expect(r.change.mock.calls[0][0].low).toEqual([-0.5, -0.25, 0])
    r.close()
  })
})

describe('the table of photos', () => {
  it('sorts by a column, and the other way when it is pressed again', async () => {
    const r = mount(PhotoTable, { cameras: [camera(2), camera(1), camera(3, { state: 'weak' })] })
    const names = () => r.all('.name').map((n) => n.textContent)
    expect(names()).toEqual(['1.jpg', '2.jpg', '3.jpg'])
    const ties = r.all('th button')[2]
    ties.click()
    ties.click()
    await settled()
    expect(names()).toEqual(['3.jpg', '2.jpg', '1.jpg'])
    expect(r.all('th')[2].getAttribute('aria-sort')).toBe('descending')
    r.all('.name')[1].click()
    expect(projectOf(1).selected).toBe('2.jpg')
    r.close()
  })

  it('has a column of the plan only where there was one, and marks what lies astray', () => {
    const without = mount(PhotoTable, { cameras: [camera(1)] })
    const columns = without.all('th').length
    without.close()
    const r = mount(PhotoTable, { cameras: [camera(1, { off_plan_percent: 30 })] })
    expect(r.all('th').length).toBe(columns + 1)
    expect(r.find('.astray')!.textContent).toContain('30.0 ◐')
    r.close()
  })
})

describe('photos that were kept back', () => {
  it('offers to keep some back where none were', async () => {
    const r = mount(KeptBack, { number: 1, held: [] })
    r.find('.go')!.click()
    await settled()
    await settled()
    expect(sent('PUT').map((a) => a.body)).toEqual([{ kept_back: 4 }])
    expect(sent('POST').map((a) => a.path)).toEqual(['/api/v1/projects/1/layers/texture/run'])
    r.close()
  })

  it('shows the model as the photo sees it', async () => {
    const held = [
      { row: 4, photo: 'a.jpg', psnr_db: 31.24, ssim: 0.9123 },
      { row: 7, photo: 'b.jpg', psnr_db: 29, ssim: 0.8 },
    ]
    const r = mount(KeptBack, { number: 3, held })
    expect(r.find('.one span')!.textContent).toContain('31.2')
    r.all('.one')[1].click()
    await settled()
    expect(r.find('img')!.getAttribute('src')).toBe(
      '/api/v1/projects/1/layers/texture/held-out?row=7&shows=model&number=3',
    )
    r.close()
  })
})

describe('the chart under the photos', () => {
  it('says what is chosen, and goes on by the arrow keys', () => {
    const pick = vi.fn()
    const values = [1, 4.25, 2].map((value, k) => ({ key: `${k}.jpg`, value, off: k === 2 }))
    const r = mount(StripChart, { values, title: 'Sharpness', selected: '1.jpg', onPick: pick })
    const slider = r.find('canvas')!
    expect(slider.getAttribute('aria-valuetext')).toMatch(/^1\.jpg: 4\.3$/)
    expect(slider.getAttribute('aria-valuemax')).toBe('3')
    slider.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowRight' }))
    expect(pick).toHaveBeenCalledWith('2.jpg')
    r.close()
  })
})

describe('panels of the alignment', () => {
  it('tell of the track of a point, and of nothing before one is pressed', async () => {
    const r = mount(TrackPanel, { at: null })
    await settled()
    expect(asked).toEqual([])
    r.close()
  })

  it('ask for the pairs of the version that is shown', async () => {
    const r = mount(PairsPanel, { cameras: [camera(0), camera(1)], number: 2 })
    await settled()
    expect(asked.map((a) => a.path)).toEqual(['/api/v1/projects/1/layers/cameras/pairs'])
    r.close()
  })
})

describe('Dispatch', () => {
  const parcel = (format: string, more = {}) => ({
    format,
    title: said(`as ${format}`),
    up: 'y',
    unit: 'm',
    asks: format === 'obj',
    carries: 'texture',
    bytes: 4e6,
    triangles: [],
    ...more,
  })
  async function bench() {
    serverAnswers((a) =>
      a.path.endsWith('/dispatch')
        ? { kinds: ['glb', 'obj', 'film', '3mf'].map((f) => parcel(f)), size: [0.4, 0.3, 1.2], unsaved: 2 }
        : a.method === 'POST'
          ? null
          : undefined,
    )
    projectOf(1).layers = [
      layer({
        layer: 'texture',
        number: 1,
        versions: [{ layer: 'texture', number: 1, figures: {} } as never],
      }),
    ]
    const r = mount(DispatchBench, {})
    await settled()
    return { ...r, tray: document.querySelector<HTMLElement>('#tray-top')! }
  }
  const press = (host: HTMLElement, text: string) =>
    [...host.querySelectorAll('button')].find((b) => b.textContent!.includes(text))!.click()

  it('offers what there is, by group, and says how large the model arrives', async () => {
    const r = await bench()
    const formats = () => [...r.tray.querySelectorAll<HTMLElement>('.place')].map((p) => p.dataset.format)
    expect(formats()).toEqual(['glb', 'obj', '3mf'])
    expect(r.tray.querySelector('.arrives')!.textContent).toContain('0.4 × 0.3 × 1.2')
    r.tray.querySelector<HTMLElement>('[data-format="3mf"]')!.click()
    await settled()
    expect(r.tray.querySelector('.arrives')!.textContent).toContain('400 × 300 × 1,200')
    r.close()
  })

  it('says that edits are not saved, and asks axis and unit only where the format leaves them open', async () => {
    const r = await bench()
    expect(r.tray.querySelector('[role=status]')!.textContent).toContain('2')
    expect(r.tray.querySelector('.set')).toBeNull()
    r.tray.querySelector<HTMLElement>('[data-format="obj"]')!.click()
    await settled()
    expect(r.tray.querySelector('.set')).not.toBeNull()
    press(r.tray, 'Z')
    await settled()
    r.tray.querySelector<HTMLElement>('.save')!.click()
    await settled()
    expect(sent('POST').at(-1)!.body).toMatchObject({ format: 'obj', up: 'z' })
    r.close()
  })
})

describe('Photos', () => {
  it('shows what can be done with a set, and takes the last step back by Ctrl+Z', async () => {
    serverAnswers((a) =>
      a.path.endsWith('/history/photos')
        ? { layer: 'photos', undo: 1, redo: 0, undo_says: said('Evening out') }
        : undefined,
    )
    projectOf(1).photos = [
      photo('a.jpg', { set: 'upper' }),
      photo('b.jpg', { set: 'upper' }),
      photo('c.jpg', { set: 'lower' }),
    ]
    const r = mount(PhotosBench, {})
    await settled()
    expect(r.find('.strip')).toBeNull()
    r.button('upper, 2')!.click()
    await settled()
    expect(r.find('.strip b')!.textContent).toBe('2 photos picked')
    expect(r.button('Undo')!.title).toBe('Evening out')
    window.dispatchEvent(new KeyboardEvent('keydown', { key: 'z', ctrlKey: true }))
    await settled()
    expect(sent('POST').map((a) => a.path)).toEqual(['/api/v1/projects/1/history/photos/undo'])
    r.close()
  })
})

describe('the first page', () => {
  const project = (id: number, name: string) =>
    ({
      id,
      name,
      made: '2026-11-20T10:00:00Z',
      photos: 3,
      bytes: 1,
      notes: '',
      laps: [],
      shape: '',
    }) as unknown as Project

  it('makes a project of the name that was typed, and goes to it', async () => {
    serverAnswers((a) =>
      a.path === '/api/v1/projects'
        ? a.method === 'POST'
          ? project(9, 'Gate')
          : [project(1, 'Milestone'), project(2, 'Finial')]
        : a.path.endsWith('/health')
          ? { folder: '/data' }
          : undefined,
    )
    const r = mount(ProjectsView, {})
    await settled()
    expect(r.all('.name').map((n) => n.textContent)).toEqual(['Finial', 'Milestone'])
    expect(r.host.textContent).toContain('/data')
    const field = r.find('.add input') as HTMLInputElement
    field.value = ' Gate '
    field.dispatchEvent(new Event('input'))
    await settled()
    r.find('.add')!.dispatchEvent(new Event('submit'))
    await settled()
    expect(sent('POST')[0].body).toEqual({ name: 'Gate' })
    expect(push).toHaveBeenCalledWith('/projects/9/start')
    r.close()
  })
})
