import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { Version, Video } from '@/api/client'
import AtlasPane from '@/components/AtlasPane.vue'
import LensMaps from '@/components/LensMaps.vue'
import LevelStrip from '@/components/LevelStrip.vue'
import TonePanel from '@/components/photos/TonePanel.vue'
import VideoPane from '@/components/photos/VideoPane.vue'
import CamerasBench from '@/benches/CamerasBench.vue'
import FinishBench from '@/benches/FinishBench.vue'
import MasksBench from '@/benches/MasksBench.vue'
import MeshBench from '@/benches/MeshBench.vue'
import PointsBench from '@/benches/PointsBench.vue'
import { projectOf } from '@/stores/project'
import type { World } from '@/world/World'
import { asked, freshStores, layer, mount, photo, serverAnswers, settled } from './mount'
import { called, world } from './noWorld'

vi.mock('@/components/WorldPane.vue', async () => (await import('./noWorld')).pane)
vi.mock('vue-router', () => ({ useRouter: () => ({ push: vi.fn() }) }))

beforeEach(() => {
  freshStores()
  serverAnswers()
  called.length = 0
  document.body.innerHTML = '<div id="tray-top"></div>'
})
afterEach(() => (document.body.innerHTML = ''))
const sent = (method: string) => asked.filter((a) => a.method === method)
const bodies = () => sent('PUT').map((a) => a.body)
const version = (layer: string, more: object = {}) =>
  ({ layer, number: 2, figures: {}, settings: {}, findings: [], ...more }) as unknown as Version
const has = (...layers: string[]) => {
  projectOf(1).layers = layers.map((l) => layer({ layer: l as never, number: 2, versions: [version(l)] }))
  projectOf(1).photos = [photo('a.jpg', { width: 1600, height: 1200 }), photo('b.jpg')]
}
const press = (host: ParentNode, text: string) =>
  [...host.querySelectorAll('button')].find((b) => b.textContent!.includes(text))!.click()
const key = (k: string, more: object = {}) =>
  window.dispatchEvent(new KeyboardEvent('keydown', { key: k, ...more }))
const scene = {
  cameras: ['a', 'b'].map((n, row) => ({
    row,
    photo: `${n}.jpg`,
    state: row ? 'weak' : 'placed',
    ties: 40,
    focal: 1800,
    center: [row, 0, 1],
    rotation: [
      [1, 0, 0],
      [0, 1, 0],
      [0, 0, 1],
    ],
    width: 1600,
    height: 1200,
  })),
  box: { center: [0, 0, 0], low: [-1, -1, 0], high: [1, 1, 2], turn: 0 },
  found: [],
}
const withScene = (more: (a: (typeof asked)[number]) => unknown = () => undefined) =>
  serverAnswers((a) => (a.path.endsWith('/scene') ? scene : more(a)))

describe('Cameras', () => {
  it('shows box, cloud and cameras of the version in use, and counts the states', async () => {
    withScene()
    has('cameras')
    const r = mount(CamerasBench, { compared: null })
    await settled()
    await settled()
    const names = called.map(([n]) => n)
    expect(names).toEqual(
      expect.arrayContaining(['setBox', 'loadCloud', 'setGround', 'setCameras', 'views.home']),
    )
    expect(r.find('.world')!.textContent).toContain('● placed 1')
    expect(r.find('.world')!.textContent).toContain('◐ weak 1')
    r.close()
  })

  it('uses the box that was pulled only when it is taken', async () => {
    withScene()
    has('cameras', 'points')
    const r = mount(CamerasBench, { compared: null })
    await settled()
    await settled()
    expect(r.button('Use this box')).toBeUndefined()
    ;(world as unknown as World).onBox({ ...scene.box, low: [-2, -1, 0] } as never)
    await settled()
    press(r.host, 'Use this box')
    await settled()
    expect(bodies()).toEqual([{ box: { ...scene.box, low: [-2, -1, 0] } }])
    r.close()
  })
})

describe('Points', () => {
  it('asks for no more of the cloud than is drawn at once', async () => {
    withScene()
    has('points', 'cameras')
    const r = mount(PointsBench, { compared: null })
    await settled()
    await settled()
    const [, url, mode, , , budget] = called.find(([n]) => n === 'loadCloud')!
    expect(url).toContain('/api/v1/projects/1/layers/points/cloud?number=2')
    expect([mode, budget]).toEqual(['color', 2_000_000])
    press(r.host, 'height')
    await settled()
    expect(called.at(-1)).toEqual(['setCloudMode', 'height'])
    r.close()
  })
})

describe('Surface and Texture', () => {
  it('show the mesh, and what it rests on in words', async () => {
    has('surface')
    projectOf(1).layers[0].versions = [
      version('surface', { figures: { filled_percent: 3.04, inferred_percent: 1 } }),
    ]
    const r = mount(MeshBench, { layer: 'surface', compared: null })
    await settled()
    expect(called.find(([n]) => n === 'setMesh')!.slice(1, 3)).toEqual([
      '/api/v1/projects/1/layers/surface/mesh?number=2',
      'plain',
    ])
    press(r.host, 'inferred')
    await settled()
    expect(r.find('.world')!.textContent).toContain('3.0')
    r.close()
  })

  it('show the texture flat under what no photo saw', async () => {
    has('texture')
    projectOf(1).layers[0].versions = [version('texture', { figures: { unseen_percent: 2.5 } })]
    const r = mount(AtlasPane, { number: 2 })
    press(r.host, 'not seen')
    await settled()
    expect(r.all('img').map((i) => i.getAttribute('src'))).toEqual([
      '/api/v1/projects/1/layers/texture/atlas?number=2',
      '/api/v1/projects/1/layers/texture/atlas-map/guessed?number=2',
    ])
    expect(r.host.textContent).toContain('2.5')
    r.close()
  })
})

describe('Masks', () => {
  it('suggests masks in one press, and takes steps back by the history of its layer', async () => {
    const told = {
      rows: [{ path: 'a.jpg', way: 'still', share: 0.4, sure: 0.9, odd: 0, edits: 1 }],
      number: 3,
      undo: 1,
      redo: 0,
      unsaved: true,
    }
    serverAnswers((a) => (a.path.endsWith('/masks') ? told : undefined))
    has('masks')
    const r = mount(MasksBench, {})
    await settled()
    expect(r.host.textContent).toContain('40')
    press(r.host, 'Suggest masks')
    await vi.waitFor(() => expect(bodies()).toEqual([{ way: 'suggest' }]))
    await vi.waitFor(() => expect(sent('POST').at(-1)!.path).toBe('/api/v1/projects/1/layers/masks/run'))
    key('z', { ctrlKey: true })
    await vi.waitFor(() => expect(sent('POST').at(-1)!.path).toBe('/api/v1/projects/1/history/masks/undo'))
    r.close()
  })
})

describe('Finish', () => {
  it('begins on the draft as it was left, and goes back in it', async () => {
    const draft = {
      edits: 2,
      done: 2,
      redo: 0,
      on: 2,
      faces: 900,
      before: 1000,
      making: null,
      stale: false,
      summary: [],
    }
    serverAnswers((a) => (a.path.includes('/draft') ? draft : undefined))
    has('texture')
    const r = mount(FinishBench, { compared: null })
    await settled()
    await settled()
    expect(asked.map((a) => a.path)).toContain('/api/v1/projects/1/draft')
    key('z', { ctrlKey: true })
    await settled()
    await settled()
    expect(sent('POST').map((a) => a.path)).toEqual(
      expect.arrayContaining(['/api/v1/projects/1/history/finish/undo', '/api/v1/projects/1/draft/make']),
    )
    r.close()
  })
})

describe('levelling by hand', () => {
  it('gathers turns about the axis that is looked along, and hands them over', async () => {
    const apply = vi.fn()
    const r = mount(LevelStrip, {
      world: world as never,
      kept: [],
      centred: false,
      kinds: [],
      kind: 'object',
      onApply: apply,
    })
    await settled()
    press(r.host, '↻ 1°')
    press(r.host, '↻ 1°')
    await settled()
    expect(called.filter(([n]) => n === 'setTurn').length).toBeGreaterThanOrEqual(2)
    r.find('.take')!.click()
    expect(apply).toHaveBeenCalledTimes(1)
    const [steps] = apply.mock.calls[0] as [[string, number][]]
    expect(steps.map(([, d]) => Math.abs(d))).toEqual([2])
    r.close()
  })
})

describe('a lens', () => {
  it('says how far its focal length is from what the photos said', async () => {
    const map = {
      photos: 12,
      width: 1600,
      height: 1200,
      focal: 1818,
      said: 1800,
      curve: [
        [0, 0],
        [800, -6],
      ],
      cells: [],
    }
    serverAnswers(() => [map])
    const r = mount(LensMaps, { number: 1 })
    await settled()
    expect(r.host.textContent).toContain('1818.0')
    expect(r.host.textContent).toContain('1.0')
    r.close()
  })
})

describe('evening out', () => {
  it('is switched on for all photos in one press, once they were judged', async () => {
    const tone = {
      tone: {},
      own: {},
      evened: 0,
      spread_ev: 0.6,
      spread_wb: 0.1,
      corner_stops: 0,
      falloff_from: 'nothing',
    }
    serverAnswers((a) => {
      if (a.path.endsWith('/histogram')) return { before: [0, 1, 0], after: [0, 1, 0] }
      return a.path.endsWith('/tone') || a.path.endsWith('/even') ? tone : undefined
    })
    projectOf(1).photos = [photo('a.jpg', { judged: { proposal: 'keep', tone: [0.1, 0, 0] } as never })]
    const r = mount(TonePanel, { after: 0 })
    await settled()
    press(r.host, 'Even out')
    await settled()
    r.find('.el-switch')!.click()
    await vi.waitFor(() =>
      expect(sent('POST').map((a) => a.path)).toEqual(['/api/v1/projects/1/photos/even']),
    )
    r.close()
  })
})

describe('a video', () => {
  it('asks which frames would be taken, and takes those', async () => {
    const video = {
      name: 'walk.mp4',
      seconds: 10,
      times: [0, 5, 10],
      proxies: 3,
      looked: true,
      width: 640,
      height: 360,
      rate: 25,
      turns: 0,
      laps: [],
      shake: [],
      motion: [],
      fit: [true, true, true],
      still: [],
      whole: true,
      crop: [0, 0, 0, 0],
      frames: 250,
      sharp: [],
    } as unknown as Video
    serverAnswers((a) =>
      a.path.endsWith('/choose') ? { count: 7, frames: [[1, 2]], times: [[0.1, 0.2]] } : undefined,
    )
    const r = mount(VideoPane, { video })
    await vi.waitFor(() =>
      expect(sent('POST').map((a) => a.path)).toEqual(['/api/v1/projects/1/videos/walk.mp4/choose']),
    )
    expect(sent('POST')[0].body).toMatchObject({ by: 'motion', degrees: 10, ranges: [] })
    r.close()
  })
})
