import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { Job } from '@/api/client'
import JobQueue from '@/components/JobQueue.vue'
import { setLanguage } from '@/i18n'
import { useJobs } from '@/stores/jobs'
import { freshStores, job, mount, said, settled } from './mount'

const push = vi.fn()
vi.mock('vue-router', () => ({ useRouter: () => ({ push }) }))
beforeEach(freshStores)

const made = {
  text: 'Done. Made: Texture 2.',
  pattern: 'Done. Made: {what}.',
  code: '',
  values: {
    what: [
      { text: 'Texture 2', pattern: '{layer} {number}', values: { layer: 'Texture', number: 2 }, code: '' },
    ],
  },
}

describe('the queue of jobs', () => {
  it('says of each job what it is, of which project, what it made, and goes there', async () => {
    const jobs = useJobs()
    jobs.take([
      job({
        id: 9,
        kind: 'run',
        until: 'texture',
        state: 'done',
        project: 'Well-head',
        message: made,
      } as Partial<Job>),
      job({
        id: 8,
        kind: 'parcel',
        state: 'failed',
        project: 'Well-head',
        message: said('The disk is full.'),
      } as Partial<Job>),
      job({ id: 7, kind: 'judge', state: 'running', project: 'Finial' } as Partial<Job>),
    ])
    const queue = mount(JobQueue, {})
    await settled()
    const rows = queue.all('li').map((li) => li.textContent.replace(/\s+/g, ' '))
    expect(rows[0]).toContain('Run Texture Well-head')
    expect(rows[0]).toContain('Done. Made: Texture 2.')
    expect(queue.all('li')[1].querySelector('p')!.className).toContain('bad')
    expect(queue.all('li')[2].querySelector('button')!.textContent.trim()).toBe('Stop')
    queue.all('li')[0].querySelector('button')!.click()
    expect(push).toHaveBeenCalledWith('/projects/1/texture')
    queue.close()
    setLanguage('de')
    const german = mount(JobQueue, {})
    expect(german.host.textContent).toContain('Fertig. Gemacht: Textur 2.')
    setLanguage('en')
    german.close()
  })

  it('says so when there are none', () => {
    useJobs().take([])
    const queue = mount(JobQueue, {})
    expect(queue.host.textContent).toContain('No jobs yet')
    queue.close()
  })
})
