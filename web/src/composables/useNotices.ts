import { useLocalStorage } from '@vueuse/core'
import { watch } from 'vue'
import { i18n } from '@/i18n'
import { say } from '@/i18n/say'
import { useJobs } from '@/stores/jobs'

/** Notices of the system when a job is over while the page is hidden; asked for by a button, never by itself. */
const wanted = useLocalStorage('vq-notices', false)

export function useNotices() {
  const possible = 'Notification' in window
  async function toggle() {
    wanted.value = !wanted.value && (await Notification.requestPermission()) === 'granted'
  }
  return { possible, on: wanted, toggle }
}

/** Tell of jobs that end; once, by the frame of the page. */
export function tellWhenHidden() {
  const jobs = useJobs()
  watch(
    () => jobs.ended,
    (job) => {
      if (!job || !wanted.value || !document.hidden || Notification.permission !== 'granted') return
      const title = `${job.project}: ${i18n.global.t(`job.${job.state}`)}`
      new Notification(title, { body: say(job.message), tag: `vq-${job.id}` })
    },
  )
}
