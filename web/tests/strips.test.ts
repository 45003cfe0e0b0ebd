import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { Vector3 } from 'three'
import type { CameraOut } from '@/api/client'
import ClearStrip from '@/components/ClearStrip.vue'
import MeasureStrip from '@/components/MeasureStrip.vue'
import PairView from '@/components/PairView.vue'
import ProjectFrame from '@/components/ProjectFrame.vue'
import type { Measure } from '@/composables/useMeasure'
import { useMeasure } from '@/composables/useMeasure'
import { useJobs } from '@/stores/jobs'
import { projectOf } from '@/stores/project'
import { PROJECT } from '@/stores/project'
import { defineComponent, h, provide } from 'vue'
import { asked, freshStores, job, layer, mount, photo, serverAnswers, settled } from './mount'
import { called, world } from './noWorld'

const { push } = vi.hoisted(() => ({ push: vi.fn() }))
vi.mock('vue-router', () => ({ useRouter: () => ({ push }) }))
vi.mock('@/benches/PhotosBench.vue', () => ({ default: { render: () => null } }))
vi.mock('@/components/WorldPane.vue', async () => (await import('./noWorld')).pane)

beforeEach(() => {
  freshStores()
  serverAnswers()
  called.length = 0
  push.mockClear()
})
afterEach(() => (document.body.innerHTML = ''))
const key = (k: string, more: object = {}) =>
  window.dispatchEvent(new KeyboardEvent('keydown', { key: k, ...more }))

describe('measured distances', () => {
  /** The strip with what it works on, as the bench has it. */
  function strip() {
    let measure!: Measure
    const held = mount(
      defineComponent({
        setup() {
          provide(PROJECT, 1)
          measure = useMeasure(() => ({ width: 1600, height: 1200 }))
          measure.open()
          return () => h(MeasureStrip, { measure })
        },
      }),
      {},
    )
    return { held, measure }
  }

  it('are marked in two photos at each end before they can be applied, and taken back step by step', async () => {
    const { held, measure } = strip()
    await settled()
    const ends = () => held.all('.row.on button[aria-pressed]')
    const apply = held.find('.take') as HTMLButtonElement
    expect(ends().map((b) => b.getAttribute('aria-pressed'))).toEqual(['true', 'false'])
    for (const end of [0, 1]) {
      ends()[end].click()
      for (const name of ['a.jpg', 'b.jpg']) {
        projectOf(1).selected = name
        measure.place(0.5, 0.25)
      }
      await settled()
    }
    expect(ends().every((b) => b.textContent!.includes('✓'))).toBe(true)
    // pixel centres are whole numbers
    expect(measure.bars.value[0].a.marks['a.jpg']).toEqual([799.5, 299.5])
    expect(apply.disabled).toBe(true) // how long it is is not said yet
    const length = held.all('input').find((f) => f.getAttribute('aria-label')?.includes('A'))!
    expect(length).toBeDefined()
    measure.set(measure.bars.value.map((b) => ({ ...b, length_mm: 250 })))
    await settled()
    expect(apply.disabled).toBe(false)
    key('z', { ctrlKey: true })
    key('z', { ctrlKey: true })
    await settled()
    expect(measure.bars.value[0].length_mm).toBeNull()
    expect(ends()[1].textContent).not.toContain('✓')
    held.close()
  })

  it('come and go, the active one is never one that is gone', async () => {
    const { held, measure } = strip()
    await settled()
    measure.add()
    await settled()
    expect(held.all('.name').map((n) => (n as HTMLInputElement).value)).toEqual(['A', 'B'])
    expect(measure.active.value.bar).toBe(1)
    held.all('.row button').filter((b) => b.textContent!.trim() === '×')[1].click() // prettier-ignore
    await settled()
    expect(measure.active.value.bar).toBe(0)
    key('Escape')
    expect(measure.measuring.value).toBe(false)
    held.close()
  })
})

describe('a pair of photos', () => {
  const camera = (row: number, more = {}) =>
    ({ row, photo: `${row}.jpg`, width: 1600, height: 1200, ...more }) as unknown as CameraOut

  it('is drawn with what both share; the wrong ones alone on request', async () => {
    serverAnswers(() => [
      { a: [10, 20], b: [30, 40], agrees: true },
      { a: [1, 2], b: [3, 4], agrees: false },
      { a: [5, 6], b: [7, 8], agrees: null },
    ])
    const pair = mount(PairView, { a: camera(0), b: camera(1, { width: 800, height: 600 }) })
    await settled()
    expect(pair.all('line')).toHaveLength(3)
    // the smaller photo is drawn as large as the other, and its places with it
    const second = pair.all('image')[1]
    const [w, h] = ['width', 'height'].map((k) => Number(second.getAttribute(k)))
    expect([w / 800, h / 600]).toEqual([2, 2])
    const line = pair.find('line')!
    const offset = ['x', 'y'].map((k) => Number(second.getAttribute(k) ?? 0))
    expect([line.getAttribute('x2'), line.getAttribute('y2')].map(Number)).toEqual([
      offset[0] + 60,
      offset[1] + 80,
    ])
    pair.find('.zoom button')!.click()
    await settled()
    expect(pair.all('line')).toHaveLength(1)
    expect(pair.find('g.no')).not.toBeNull()
    pair.close()
  })

  it('drops an answer about another pair than is shown', async () => {
    const waiting: (() => void)[] = []
    vi.stubGlobal('fetch', async (request: Request) => {
      const b = new URL(request.url).searchParams.get('b')
      await new Promise<void>((go) => waiting.push(go))
      return new Response(JSON.stringify(b === '1' ? [] : [{ a: [0, 0], b: [0, 0], agrees: true }]), {
        headers: { 'Content-Type': 'application/json' },
      })
    })
    const pair = mount(PairView, { a: camera(0), b: camera(1) })
    await settled()
    pair.props.b = camera(2)
    await settled()
    waiting[1]()
    await settled()
    expect(pair.all('line')).toHaveLength(1)
    waiting[0]()
    await settled()
    expect(pair.all('line')).toHaveLength(1)
    pair.close()
  })
})

describe('clearing points', () => {
  const draft = { on: 2, done: 0, redo: 0, left: 900, gone: 0, earlier: 0 }
  /** Three of 900 points, as the server packs them. */
  const bits = () => {
    const data = new Uint8Array(9)
    new DataView(data.buffer).setUint32(0, 3, true)
    new DataView(data.buffer).setUint32(4, 900, true)
    data[8] = 0b111
    return data
  }
  function strip() {
    let now = { ...draft }
    asked.length = 0
    vi.stubGlobal('fetch', async (input: Request | string) => {
      const request = typeof input === 'string' ? new Request(new URL(input, 'http://here')) : input
      const path = new URL(request.url).pathname
      const text = await request.text()
      asked.push({ method: request.method, path, body: text ? JSON.parse(text) : null })
      if (path.endsWith('/select') || path.endsWith('/gone')) return new Response(bits())
      if (path.endsWith('/find')) return Response.json({ kind: 'cells', how: 'add' })
      if (request.method === 'POST' && path.endsWith('/draft')) now = { ...now, done: 1, left: 897, gone: 3 }
      return Response.json(now)
    })
    const canvas = document.createElement('canvas')
    document.body.appendChild(document.createElement('div')).appendChild(canvas)
    document.body.insertAdjacentHTML('beforeend', '<div id="tray-top"></div>')
    Object.assign(world, {
      canvas,
      cloud: { views: new Uint8Array(8) },
      matrix: () => [1],
      listen: (to: unknown) => void called.push(['listen', to]),
    })
    return mount(ClearStrip, {
      world,
      version: 2,
      budget: 1000,
      stated: true,
      onClose: () => called.push(['close']),
    })
  }
  const posts = (end: string) => asked.filter((a) => a.method === 'POST' && a.path.endsWith(end))

  it('finds what is pressed, joins it, and deletes it; the cloud shows what is chosen and gone', async () => {
    const clear = strip()
    await settled()
    expect(called).toContainEqual(['setTool', true])
    const tray = document.querySelector('#tray-top')!
    tray.querySelector('button')!.click() // by colour
    await settled()
    const pressed = called.findLast(([n]) => n === 'listen')![1] as (p: Vector3) => void
    pressed(new Vector3(1, 2, 3))
    await settled()
    expect(posts('/find')[0].body).toMatchObject({ what: 'color', at: [1, 2, 3] })
    expect(posts('/select')[0].body).toEqual({ terms: [{ kind: 'cells', how: 'add' }] })
    expect([...(called.findLast(([n]) => n === 'setPointStates')![1] as Uint8Array)].slice(0, 4)).toEqual([
      1, 1, 1, 0,
    ])
    expect(tray.querySelector('[role=status]')!.textContent).toContain('3 points chosen')
    // held keys take away from it, in an order of its own
    clear.all('[role=radio]').at(-2)!.click()
    await settled()
    pressed(new Vector3(0, 0, 0))
    await settled()
    expect((posts('/select')[1].body as { terms: { how: string }[] }).terms.map((x) => x.how)).toEqual([
      'add',
      'take',
    ])
    // a step of the choice is taken back before one of the draft
    key('z', { ctrlKey: true })
    await settled()
    expect((posts('/select')[2].body as { terms: object[] }).terms).toHaveLength(1)
    key('Delete')
    await settled()
    expect(posts('/draft')[0].body).toMatchObject({ terms: [{ kind: 'cells', how: 'add' }] })
    await settled()
    expect([...(called.findLast(([n]) => n === 'setPointStates')![1] as Uint8Array)].slice(0, 4)).toEqual([
      2, 2, 2, 0,
    ])
    clear.close()
    expect(called.at(-1)).toEqual(['setPointStates', null])
  })

  it('puts the tool away by Escape, then itself', async () => {
    const clear = strip()
    await settled()
    key('Escape')
    await settled()
    expect(called.findLast(([n]) => n === 'setTool')).toEqual(['setTool', false])
    expect(called).not.toContainEqual(['close'])
    key('Escape')
    expect(called).toContainEqual(['close'])
    clear.close()
  })
})

describe('the frame of a project', () => {
  const answers = (status = 200) => {
    asked.length = 0
    vi.stubGlobal('fetch', async (request: Request) => {
      const path = new URL(request.url).pathname
      asked.push({ method: request.method, path, body: null })
      if (path.endsWith('/projects/7'))
        return Response.json(status === 200 ? { id: 7, name: 'Well-head' } : {}, { status })
      if (path.endsWith('/layers')) return Response.json([layer({ layer: 'photos' })])
      if (path.endsWith('/photos')) return Response.json([photo('a.jpg')])
      return Response.json([])
    })
  }

  it('goes by number keys, and where a message about a failure leads', async () => {
    answers()
    const frame = mount(ProjectFrame, { id: '7', layer: 'photos' })
    for (let k = 0; k < 4; k++) await settled()
    expect(frame.find('h1')!.textContent).toBe('Well-head')
    key('4')
    expect(push).toHaveBeenLastCalledWith('/projects/7/cameras')
    document.dispatchEvent(new CustomEvent('vq-go', { detail: 'masks' }))
    expect(push).toHaveBeenLastCalledWith('/projects/7/masks')
    frame.close()
  })

  it('asks anew when a job of its own has ended, not when another project has', async () => {
    answers()
    const frame = mount(ProjectFrame, { id: '7', layer: 'photos' })
    for (let k = 0; k < 4; k++) await settled()
    const jobs = useJobs()
    jobs.take([job({ id: 1, project_id: 8 }), job({ id: 2, project_id: 7 })])
    await settled()
    asked.length = 0
    jobs.take([job({ id: 1, project_id: 8, state: 'done' }), job({ id: 2, project_id: 7 })])
    await settled()
    expect(asked.filter((a) => a.path.includes('/projects/7')).map((a) => a.path)).toEqual([])
    jobs.take([job({ id: 1, project_id: 8, state: 'done' }), job({ id: 2, project_id: 7, state: 'done' })])
    await settled()
    expect(asked.map((a) => a.path)).toEqual(expect.arrayContaining(['/api/v1/projects/7/layers']))
    frame.close()
  })

  it('says so when there is no such project', async () => {
    answers(404)
    const frame = mount(ProjectFrame, { id: '7' })
    for (let k = 0; k < 4; k++) await settled()
    expect(frame.find('.frame')).toBeNull()
    expect(frame.host.textContent).toMatch(/no (such )?project/i)
    frame.close()
  })
})
