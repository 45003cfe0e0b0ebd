import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { api, ask, type Job } from '@/api/client'
import { listenTogether, type EventStream } from '@/lib/events'

const isOver = (job: Job) => job.state !== 'running' && job.state !== 'queued'

/** Jobs of all projects, as the server tells them by events. */
export const useJobs = defineStore('jobs', () => {
  const jobs = ref<Job[]>([])
  const connected = ref(true)
  const ended = ref<Job | null>(null)
  /** How often each part of each project was changed, by this page or another. */
  const changes = ref<Record<string, Record<string, number>> | null>(null)
  let stream: EventStream | null = null
  const waiting = new Set<(listed: Job[]) => void>()

  const active = computed(() => [...jobs.value].reverse().filter((j) => !isOver(j)))
  const running = computed(() => active.value.find((j) => j.state === 'running') ?? null)

  function take(next: Job[]) {
    for (const job of next) {
      const before = jobs.value.find((j) => j.id === job.id)
      if (before && isOver(job) && !isOver(before)) ended.value = job
    }
    jobs.value = next
    for (const wait of [...waiting]) wait(next)
  }

  /** A job when it is over; null when it is no longer told of. */
  function over(id: number): Promise<Job | null> {
    return new Promise((done) => {
      const look = (listed: Job[]) => {
        const job = listed.find((j) => j.id === id)
        // the list is of the newest: one that is not in it, beside later ones, was over long ago
        if (job ? isOver(job) : listed.some((j) => j.id > id)) {
          waiting.delete(look)
          done(job ?? null)
        }
      }
      waiting.add(look)
      look(jobs.value)
    })
  }

  function listen() {
    stream?.close()
    stream = listenTogether('/api/v1/jobs/events', ['jobs', 'changes'], {
      event: (kind, data) => {
        if (kind === 'jobs') take(JSON.parse(data))
        else changes.value = JSON.parse(data)
      },
      connected: (there) => (connected.value = there),
    })
  }

  const cancel = (id: number) =>
    ask(api.POST('/api/v1/jobs/{job_id}/cancel', { params: { path: { job_id: id } } }))

  const pause = (id: number) =>
    ask(api.POST('/api/v1/jobs/{job_id}/pause', { params: { path: { job_id: id } } }))
  const goOn = (id: number) =>
    ask(api.POST('/api/v1/jobs/{job_id}/go-on', { params: { path: { job_id: id } } }))

  return { jobs, active, running, changes, connected, ended, listen, cancel, pause, goOn, over, take }
})
