import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, expect, it } from 'vitest'
import type { Job } from '@/api/client'
import { useJobs } from '@/stores/jobs'
import { said } from './mount'

const job = (id: number, state: Job['state'], message = '') =>
  ({ id, state, message: said(message), kind: 'edit' }) as Job

const later = () => new Promise((done) => setTimeout(done))

beforeEach(() => setActivePinia(createPinia()))

it('who waits for a job hears of it when it is over, and how it ended', async () => {
  const jobs = useJobs()
  jobs.take([job(7, 'queued')])
  let told: Job | null | undefined
  void jobs.over(7).then((j) => (told = j))
  jobs.take([job(7, 'running')])
  await later()
  expect(told).toBeUndefined()
  jobs.take([job(8, 'queued'), job(7, 'failed', 'Nothing would be left')])
  await later()
  expect(told?.message.text).toBe('Nothing would be left')
  expect(jobs.ended?.id).toBe(7)
})

it('a job that was over before it was asked about, or is no longer told of, is not waited for', async () => {
  const jobs = useJobs()
  jobs.take([job(9, 'done')])
  expect((await jobs.over(9))?.state).toBe('done')
  expect(await jobs.over(3)).toBeNull()
})

it('one that the list has not reached yet is waited for', async () => {
  const jobs = useJobs()
  jobs.take([job(2, 'done')])
  let told = false
  void jobs.over(3).then(() => (told = true))
  await later()
  expect(told).toBe(false)
  jobs.take([job(3, 'done'), job(2, 'done')])
  await later()
  expect(told).toBe(true)
})
