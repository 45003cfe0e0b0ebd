import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { Photo, Version } from '@/api/client'
import Beds from '@/components/Beds.vue'
import JobLine from '@/components/JobLine.vue'
import Proposals from '@/components/photos/Proposals.vue'
import { useJobs } from '@/stores/jobs'
import { projectOf } from '@/stores/project'
import { asked, freshStores, job, layer, mount, photo, serverAnswers, settled, said } from './mount'

beforeEach(() => {
  freshStores()
  serverAnswers()
})
afterEach(() => (document.body.innerHTML = ''))

describe('the beds', () => {
  it('name the nine layers in their order, with what each holds', () => {
    const project = projectOf(1)
    project.photos = [
      photo('a.jpg'),
      photo('b.jpg', { kept: false }),
      photo('c.jpg', { problem: said('is cut short.') }),
    ]
    const version = {
      layer: 'cameras',
      number: 1,
      figures: { photos: 3, placed: 2, weak: 1 },
      findings: [said('Something to know.')],
    } as unknown as Version
    project.layers = [layer({ layer: 'cameras', number: 1, versions: [version] })]
    const beds = mount(Beds, { open: 'photos' })
    expect(beds.all('.n').map((n) => n.textContent)).toEqual(
      'Plan Photos Masks Cameras Points Surface Texture Finish Dispatch'.split(' '),
    )
    const says = beds.all('.f').map((f) => f.textContent!.trim())
    expect(says[1]).toBe('1 included, 2 left out')
    expect(says[3]).toBe('3 of 3 placed')
    expect(says[4]).toBe('nothing yet')
    // what there is to know is marked in the list
    expect(beds.all('.mark').map((m) => m.textContent)).toEqual(['1'])
    expect(beds.find('[aria-current=page] .n')!.textContent).toBe('Photos')
    beds.close()
  })

  it('tell what is out of date, and how far the one at work is', () => {
    projectOf(1).layers = [layer({ layer: 'points', state: 'out of date', number: 1 })]
    useJobs().take([job({ layer: 'surface', stage: 'Cutting', done: 1, total: 4 })])
    const beds = mount(Beds, { open: 'plan' })
    expect(beds.all('.bed')[4].textContent).toContain('out of date')
    const surface = beds.all('.bed')[5]
    expect(surface.textContent).toContain('Cutting')
    expect(surface.style.getPropertyValue('--share')).toBe('25%')
    // work on another project is not shown on this one's
    useJobs().take([job({ project_id: 2, layer: 'surface', stage: 'Cutting' })])
    beds.close()
    const other = mount(Beds, { open: 'plan' })
    expect(other.all('.bed.running')).toHaveLength(0)
    other.close()
  })

  it('open a layer when one is pressed', () => {
    const pick = vi.fn()
    const beds = mount(Beds, { open: 'plan', onPick: pick })
    beds.all('.bed')[7].click()
    expect(pick).toHaveBeenCalledWith('finish')
    beds.close()
  })
})

describe('the job line', () => {
  it('says what runs, how far, how long yet, and stops it', async () => {
    const more = { project: 'Well-head', step: 3, steps: 5, share: 0.4 }
    useJobs().take([
      job({ id: 5, stage: 'Matching photos', done: 30, total: 120, seconds_left: 90, ...more }),
    ])
    const line = mount(JobLine, {})
    expect(line.find('.line')!.textContent).toContain('Matching photos')
    // the bar is of the whole, the count of the step
    expect(line.find('.track i')!.style.width).toBe('40%')
    expect(line.find('.place')!.textContent).toBe('Well-head · step 3 of 5')
    expect(line.find('.line')!.textContent).toMatch(/1 min 30 s|90 s|1:30|2 min/)
    line.button('Stop')!.click()
    await settled()
    expect(asked.map((a) => a.method + a.path)).toEqual(['POST/api/v1/jobs/5/cancel'])
    line.close()
  })

  it('offers to resume where a shoot waits, and says when the server is away', async () => {
    const jobs = useJobs()
    jobs.take([job({ id: 6, kind: 'shoot', pause: true, message: said('The camera reports a fault') })])
    const line = mount(JobLine, {})
    expect(line.host.textContent).toContain('The camera reports a fault')
    line.button('Resume')!.click()
    await settled()
    expect(asked[0].path).toBe('/api/v1/jobs/6/go-on')
    jobs.connected = false
    await settled()
    expect(line.host.textContent).toContain('The server does not answer')
    expect(line.button('Stop')).toBeUndefined()
    line.close()
  })

  it('says that nothing runs', () => {
    useJobs().take([job({ state: 'done' })])
    const line = mount(JobLine, {})
    expect(line.host.textContent).toContain('Nothing runs')
    line.close()
  })
})

describe('what judging proposes', () => {
  const judged = (path: string, proposal: string, kept = true) =>
    photo(path, {
      kept,
      judged: { proposal, says: `${path} says`, reasons: [] },
    } as unknown as Partial<Photo>)

  it('is ticked where it is sure, done with one press and taken back with another', async () => {
    const project = projectOf(1)
    project.photos = [judged('a.jpg', 'leave out'), judged('b.jpg', 'doubtful'), judged('c.jpg', 'keep')]
    const list = mount(Proposals, {})
    await settled()
    expect(list.all('li').map((l) => l.querySelector('b')!.textContent)).toEqual(['a.jpg', 'b.jpg'])
    serverAnswers((r) => (r.path.endsWith('/photos') && r.method === 'GET' ? project.photos : undefined))
    list.find('.go')!.click()
    await settled()
    // both have been decided about: the ticked one is left out, the other is not asked about again
    expect(asked[0]).toEqual({
      method: 'PATCH',
      path: '/api/v1/projects/1/photos',
      body: { paths: ['a.jpg'], kept: false, decided: ['a.jpg', 'b.jpg'] },
    })
    asked.length = 0
    list.all('.link')[0].click()
    await settled()
    expect(asked[0].body).toEqual({ paths: ['a.jpg'], kept: true, decided: [] })
    list.close()
  })

  it('says so when every photo is good, and asks to judge before anything is known', async () => {
    const project = projectOf(1)
    project.photos = [photo('a.jpg')]
    const before = mount(Proposals, {})
    before.button('Judge the photos')!.click()
    await settled()
    expect(asked.at(-1)!.method + asked.at(-1)!.path).toBe('POST/api/v1/projects/1/photos/judge')
    before.close()
    project.photos = [judged('a.jpg', 'keep')]
    const good = mount(Proposals, {})
    await settled()
    expect(good.all('li')).toHaveLength(0)
    expect(good.find('p')!.textContent).toContain('The photo is good.')
    good.close()
  })
})
