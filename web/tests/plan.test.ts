import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import * as THREE from 'three'
import type { Patches, PlanIn, PlanOut } from '@/api/client'
import PlanBench from '@/benches/PlanBench.vue'
import LapTable from '@/components/plan/LapTable.vue'
import PlanCharts from '@/components/plan/PlanCharts.vue'
import PlanForm from '@/components/plan/PlanForm.vue'
import ShootBox from '@/components/plan/ShootBox.vue'
import { projectOf } from '@/stores/project'
import { asked, freshStores, mount, said, serverAnswers, settled, type Asked } from './mount'
import { called, world } from './noWorld'

vi.mock('@/components/WorldPane.vue', async () => (await import('./noWorld')).pane)

const PLAN = {
  kind: 'object', shape: 'box', skin: 'matt', width: 0.34, depth: 0.21, height: 0.62, detail_mm: 1,
  pixels_wide: 6000, pixels_high: 4000, sensor_mm: 36, focal_mm: 50, f_number: 8, iso: 100, hold: 'hand', way: 'walk',
  rings: 0, overlap: 0.8, across: 0.6, laps: [], removed: [], extra: [], moved: [], marked: [], obstacles: [],
} as unknown as PlanIn // prettier-ignore
const UP = [[1, 0, 0], [0, 0, -1], [0, 1, 0]] // prettier-ignore
const station = (k: number) => ({
  number: k,
  center: [Math.cos(k), Math.sin(k), 0.3],
  rotation: UP,
  ring: 0,
  role: 'lap',
})
const OUT = {
  total: 3, stations: [0, 1, 2].map(station), laps: [{ rise_deg: 15, count: 3, distance_m: 1.2 }], roles: { lap: 3 },
  distance: 1.2, near: 1.0, far: 1.5, focal_px: 8333, gsd_mm: 0.14, precision_mm: 0.05, best_f: 8, shutter_s: 0.004,
  blur_px: 0.4, fills: 0.7, evenness: 0.9, seen_by_three: 0.985, histogram: [0, 0.005, 0.01, 0.4, 0.585], lamps: [],
  findings: [said('Too dark to hold it in the hand.')], storage_mb: 61.4, backdrop: null,
} as unknown as PlanOut // prettier-ignore
const PATCHES = {
  corners: [0, 0, 0, 3, 0, 0, 0, 0, 3, 0, 0, 0, 0, 3, 0, 0, 0, 3], count: [5, 1], gsd_mm: [0.14, 0.2], widest: [40, 10],
  light: [0, 0], sharp: [true, false], wanted: [true, true],
} as unknown as Patches // prettier-ignore
const EXPECTED = [{ grade: 'dressed', seconds: 660, memory_mb: 2100 }]
const answers = ({ method, path }: Asked) => {
  if (path.endsWith('/plan')) return method === 'GET' ? PLAN : OUT
  if (path.endsWith('/plan/patches')) return PATCHES
  if (path.endsWith('/plan/expected')) return EXPECTED
  if (path.endsWith('/plan/mend')) return { request: { ...PLAN, extra: [[1, 1, 1]] }, gains: [0.02, 0.01], plan: { ...OUT, total: 5 } }
} // prettier-ignore

beforeEach(() => {
  freshStores()
  serverAnswers(answers)
  called.length = 0
  localStorage.clear()
  document.body.innerHTML = '<div id="tray-top"></div>'
})
afterEach(() => (document.body.innerHTML = ''))
const saved = () => asked.filter((a) => a.method === 'PUT').map((a) => a.body as PlanIn)
const key = (k: string) => window.dispatchEvent(new KeyboardEvent('keydown', { key: k }))
const press = (text: string) =>
  [...document.querySelectorAll('button')].find((b) => b.textContent!.includes(text))!.click()
/** Type a number into a field, as somebody who then leaves it. */
function type(field: HTMLInputElement, value: string) {
  field.value = value
  field.dispatchEvent(new Event('input'))
  field.dispatchEvent(new Event('change'))
}

describe('the plan', () => {
  const open = async () => {
    const bench = mount(PlanBench, {})
    for (let k = 0; k < 4; k++) await settled()
    return bench
  }

  it('is drawn with its cameras, figures and what it takes; looking at it makes no plan', async () => {
    projectOf(1).planned = 0
    const bench = await open()
    expect(saved()).toHaveLength(1)
    expect(projectOf(1).planned).toBe(0)
    expect(called.filter(([n]) => n === 'views.home')).toHaveLength(1)
    const cameras = called.findLast(([n]) => n === 'setCameras')!
    expect((cameras[1] as object[]).length).toBe(3)
    expect(bench.find('.figures')!.textContent).toContain('1.20 m')
    expect(document.querySelector('.takes')!.textContent).toContain('2.1 GB')
    expect(document.querySelector('#tray-top .cards')!.textContent).toContain('Too dark to hold')
    bench.close()
  })

  it('goes from shot to shot by the arrows, and leaves one out by Delete', async () => {
    const bench = await open()
    key('ArrowLeft')
    await settled()
    expect(bench.host.textContent).toContain('shot 3 ')
    key('ArrowRight')
    await settled()
    expect(bench.host.textContent).toContain('shot 1 ')
    key('Delete')
    await settled()
    expect(saved().at(-1)!.removed).toEqual([0])
    expect(projectOf(1).planned).toBe(3)
    // and as it was planned again
    press('Undo shot changes')
    await settled()
    expect(saved().at(-1)!.removed).toEqual([])
    bench.close()
  })

  it('moves the chosen camera with the pointer, and only that one', async () => {
    const bench = await open()
    const grab = world.grab as (what: string, ray: THREE.Raycaster, row: number | null) => boolean
    const ray = (x: number, y: number) =>
      new THREE.Raycaster(new THREE.Vector3(x, y, 5), new THREE.Vector3(0, 0, -1))
    expect(grab('down', ray(0, 0), 1)).toBe(false)
    ;(world.onCamera as (row: number) => void)(0)
    expect(grab('down', ray(1, 0), 0)).toBe(true)
    expect(grab('move', ray(0, 2), 0)).toBe(true)
    expect(grab('up', ray(0, 2), 0)).toBe(true)
    await settled()
    const [number, x, y, z] = saved().at(-1)!.moved![0]
    expect([number, z]).toEqual([0, 0.3])
    expect([x, y].map((v) => Math.round(1e6 * v) / 1e6)).toEqual([0, 1])
    expect(grab('move', ray(0, 2), 0)).toBe(false)
    bench.close()
  })

  it('adds shots where few look, and says what they gain', async () => {
    const bench = await open()
    press('Add 6 shots')
    await settled()
    expect(asked.at(-3)!.path).toMatch(/plan\/mend$/)
    expect(projectOf(1).planned).toBe(5)
    expect(document.querySelector('.el-message')!.textContent).toMatch(/2.*3\.0 %/)
    bench.close()
  })
})

describe('what is asked of a plan', () => {
  const form = () => mount(PlanForm, { modelValue: PLAN, 'onUpdate:modelValue': kept, onChange: changed })
  const kept = vi.fn()
  const changed = vi.fn()
  beforeEach(() => (kept.mockClear(), changed.mockClear()))

  it('takes numbers in their units, and shares in per cent', async () => {
    const f = form()
    await settled()
    type(f.find('#p-overlap') as HTMLInputElement, '70')
    await settled()
    expect(kept.mock.lastCall![0].overlap).toBeCloseTo(0.7)
    expect(changed).toHaveBeenCalledTimes(1)
    expect((f.find('#p-overlap') as HTMLInputElement).value).toBe('80') // until who owns it says otherwise
    f.close()
  })

  it('shows what means something for the subject, and remembers which parts are open', async () => {
    const f = form()
    await settled()
    expect(f.find('#p-table_deg_s')).toBeNull()
    expect(f.find('#p-width')).not.toBeNull()
    f.props.modelValue = { ...PLAN, hold: 'table', shape: 'mesh' } as PlanIn
    await settled()
    expect(f.find('#p-table_deg_s')).not.toBeNull()
    expect(f.find('#p-width')).toBeNull()
    f.button('Camera')!.click()
    await settled()
    expect(f.find('#p-focal_mm')).toBeNull()
    expect(JSON.parse(localStorage.getItem('plan-open')!)).toEqual(['subject', 'way'])
    f.close()
  })
})

describe('laps', () => {
  const kept = vi.fn()
  beforeEach(() => void kept.mockClear())
  const table = (plan = PLAN) => mount(LapTable, { modelValue: plan, out: OUT, 'onUpdate:modelValue': kept })

  it('are those worked out until one is touched', async () => {
    const laps = table()
    const field = laps.find('[aria-label*="1"] input, input') as HTMLInputElement
    expect(field.value).toBe('15')
    type(field, '40')
    await settled()
    expect(kept.mock.lastCall![0].laps).toEqual([{ rise_deg: 40, count: 3, distance_m: 1.2 }])
    laps.close()
  })

  it('are added above the last one, taken away, and worked out anew', async () => {
    const two = { ...PLAN, laps: [OUT.laps[0], { ...OUT.laps[0], rise_deg: 75, distance_m: 0 }] } as PlanIn
    const laps = table(two)
    laps.button('Add')!.click()
    expect(kept.mock.lastCall![0].laps.map((l: { rise_deg: number }) => l.rise_deg)).toEqual([15, 75, 80])
    laps.button('×')!.click()
    // a distance that was left open is the plan's
    expect(kept.mock.lastCall![0].laps).toEqual([{ ...OUT.laps[0], rise_deg: 75, distance_m: 1.2 }])
    laps.all('.under button')[1].click()
    expect(kept.mock.lastCall![0].laps).toEqual([])
    laps.close()
  })
})

describe('charts and shoot', () => {
  it('say how much is seen by too few, and lead there', async () => {
    const look = vi.fn()
    const charts = mount(PlanCharts, { plan: OUT, reach: 0.2, patches: PATCHES, onLook: look })
    expect(charts.find('.bad')!.textContent).toContain('1.5 %')
    expect(charts.all('svg title')[1].textContent).toBe('1: 0.5 %')
    charts.find('.thin li button')!.click()
    expect(look.mock.lastCall![0].map((v: number) => Math.round(10 * v) / 10)).toEqual([0, 1, 1])
    charts.close()
  })

  it('shoots with the rig that ships, or with devices elsewhere and no made-up failures', async () => {
    const box = mount(ShootBox, { plan: PLAN, out: { ...OUT, roles: { lap: 2, underside: 1 } } })
    box.find('.go')!.click()
    await settled()
    const first = asked.findLast((a) => a.path.endsWith('/plan/shoot'))!.body as Record<string, unknown>
    expect(first).toMatchObject({ scene: 'milestone', rig: '', failures: [], patience_s: 60 })
    // what lies underneath is shot by hand
    expect(box.find('.go')!.textContent).toContain('2 shots')
    box.all('.link')[0].click()
    await settled()
    const rig = box.find('.row input[placeholder]') as HTMLInputElement
    rig.value = 'http://127.0.0.1:9000'
    rig.dispatchEvent(new Event('input'))
    await settled()
    box.find('.go')!.click()
    await settled()
    const then = asked.findLast((a) => a.path.endsWith('/plan/shoot'))!.body as Record<string, unknown>
    expect(then).toMatchObject({ rig: 'http://127.0.0.1:9000', failures: [] })
    box.props.plan = { ...PLAN, kind: 'corner' } as PlanIn
    await settled()
    box.find('.go')!.click()
    await settled()
    expect(asked.at(-1)!.body).toMatchObject({ scene: 'yard' })
    box.close()
  })
})
