import { useIntervalFn } from '@vueuse/core'
import { computed, shallowRef, watch, type Ref } from 'vue'
import { api, ask } from '@/api/client'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import { packCloud } from '@/world/build'
import type { World } from '@/world/World'

/** While the alignment runs, what is placed so far is shown as it grows. */
export function useGrowing(world: Ref<World | null>, reframe: () => void) {
  const project = useProject()
  const jobs = useJobs()
  const growing = computed(() =>
    jobs.active.some((j) => j.project_id === project.id && j.state === 'running' && j.layer === 'cameras'),
  )
  /** Before anything is placed: which photos were read, and which found each other. */
  const found = shallowRef<{ read: number[]; matched: number[][] } | null>(null)
  watch(growing, (on) => on || (found.value = null))
  async function show() {
    const w = world.value
    if (!w || !growing.value) return
    const live = await ask(api.GET('/api/v1/projects/{project_id}/layers/cameras/live', project.path))
    if (!growing.value) return
    found.value = live.cameras.length ? null : live
    if (!live.cameras.length) return
    w.setBox(null)
    w.clear('ground')
    w.setCameras(live.cameras, null)
    w.setCloud(packCloud(live.points), 'color')
    w.views.frameAll(false)
    reframe()
  }
  useIntervalFn(show, 1500)
  return { growing, found }
}
