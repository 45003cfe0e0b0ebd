import { api, ask, tell, type Parcel } from '@/api/client'
import { say } from '@/i18n/say'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'

export interface WantedParcel {
  format: Parcel['format']
  up: Parcel['up']
  unit: Parcel['unit']
  levels: number
}

/** Files of the model, which are written by jobs. */
export function useParcels() {
  const project = useProject()
  const jobs = useJobs()
  const fileOf = (wanted: WantedParcel) =>
    `/api/v1/projects/${project.id}/dispatch/parcel?${new URLSearchParams({ ...wanted, levels: String(wanted.levels) })}`
  /** Have a file made where it is not there yet; whether it is there now. */
  async function haveMade(wanted: WantedParcel) {
    const job = await ask(
      api.POST('/api/v1/projects/{project_id}/dispatch/parcel', { ...project.path, body: wanted }),
      true,
    )
    const over = job ? await jobs.over(job.id) : null
    if (over?.state === 'failed') tell(say(over.message))
    return over?.state !== 'failed' && over?.state !== 'cancelled'
  }
  return { fileOf, haveMade }
}
