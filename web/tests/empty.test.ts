import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import EmptyLayer from '@/components/EmptyLayer.vue'
import PlanDrawing from '@/components/PlanDrawing.vue'
import { shotsOf } from '@/lib/planDrawing'
import { useJobs } from '@/stores/jobs'
import { projectOf } from '@/stores/project'
import { asked, freshStores, job, mount, photo, serverAnswers, settled } from './mount'

const push = vi.hoisted(() => vi.fn())
vi.mock('vue-router', () => ({ useRouter: () => ({ push }) }))

beforeEach(() => {
  freshStores()
  serverAnswers(() => ({}))
  push.mockClear()
})
afterEach(() => (document.body.innerHTML = ''))

it('an empty layer without photos leads to them', () => {
  const empty = mount(EmptyLayer, { layer: 'points' }, 7)
  expect(empty.host.textContent).toContain('a dense cloud of points')
  expect(empty.host.textContent).toContain('It begins with photos.')
  empty.button('Bring in photos')!.click()
  expect(push).toHaveBeenCalledWith('/projects/7/photos')
  empty.close()
})

it('an empty layer with photos is run from where it stands, Finish and Dispatch through Texture', async () => {
  const project = projectOf(7)
  project.photos = [photo('a.jpg', { kept: false }), photo('b.jpg')]
  for (const [layer, runs] of [
    ['surface', 'surface'],
    ['dispatch', 'texture'],
    ['finish', 'texture'],
  ]) {
    asked.length = 0
    const empty = mount(EmptyLayer, { layer }, 7)
    empty.button('Run ')!.click()
    await settled()
    expect(asked.map((a) => [a.method, a.path])).toEqual([['POST', `/api/v1/projects/7/layers/${runs}/run`]])
    empty.close()
  }
})

it('an empty layer of a project at work says so, and offers nothing to press', () => {
  const project = projectOf(7)
  project.photos = [photo('b.jpg')]
  useJobs().take([job({ project_id: 7, state: 'queued' })])
  const empty = mount(EmptyLayer, { layer: 'cameras' }, 7)
  expect(empty.host.textContent).toContain('is being worked on')
  expect(empty.all('button')).toEqual([])
  empty.close()
})

it('a plan is drawn by its laps, higher ones higher and narrower', () => {
  const low = shotsOf([{ rise_deg: 0, count: 24 }])
  const high = shotsOf([{ rise_deg: 60, count: 24 }])
  const wide = (s: typeof low) => Math.max(...s.map((p) => p.x)) - Math.min(...s.map((p) => p.x))
  const mean = (s: typeof low) => s.reduce((a, p) => a + p.y, 0) / s.length
  expect(low.length).toBe(24)
  expect(low.filter((p) => p.before).length).toBe(12)
  expect(wide(high)).toBeCloseTo(wide(low) / 2, 5)
  expect(mean(high)).toBeLessThan(mean(low) - 40)
  // as many as can be told apart
  expect(shotsOf([{ rise_deg: 10, count: 400 }]).length).toBe(40)
  const drawn = mount(PlanDrawing, { laps: [{ rise_deg: 0, count: 10 }, { rise_deg: 45, count: 6 }], shape: 'cylinder' }) // prettier-ignore
  expect(drawn.all('circle').length).toBe(16)
  drawn.close()
  const none = mount(PlanDrawing, { laps: [], shape: '' })
  expect([none.all('circle').length, none.all('ellipse').length]).toEqual([0, 3])
  none.close()
})
