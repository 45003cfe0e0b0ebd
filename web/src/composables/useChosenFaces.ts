import { ref, shallowRef, type Ref } from 'vue'
import { api, ask, tell, wholeChoices, type FaceChoice } from '@/api/client'
import { say } from '@/i18n/say'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import type { World } from '@/world/World'

export type HowJoined = 'replace' | 'add' | 'subtract' | 'intersect'

/** Faces of the model that are chosen, step by step, and tinted before anything is done to them. */
export function useChosenFaces(world: Ref<World | null>) {
  const project = useProject()
  const jobs = useJobs()
  const where = shallowRef<FaceChoice[]>([])
  const faces = ref(0)
  const looking = ref(0)
  const how = ref<HowJoined>('replace')
  /** Rises with each change: an older answer does not replace a newer one. */
  let turn = 0

  async function set(next: FaceChoice[]) {
    const mine = ++turn
    where.value = next
    if (!next.length) {
      faces.value = 0
      world.value?.marks.setTinted(null)
      return
    }
    looking.value++
    const path = project.path
    const body = { where: wholeChoices(next) }
    try {
      let told = await ask(api.POST('/api/v1/projects/{project_id}/draft/select', { ...path, body }), true)
      if (told.making) {
        const over = await jobs.over(told.making.id)
        if (over?.state === 'failed') {
          tell(say(over.message))
          if (mine === turn) void set([])
          return
        }
        told = await ask(api.POST('/api/v1/projects/{project_id}/draft/select', { ...path, body }), true)
      }
      if (mine !== turn) return
      faces.value = told.faces ?? 0
      const data = (await ask(
        api.POST('/api/v1/projects/{project_id}/draft/selected', { ...path, body, parseAs: 'arrayBuffer' }),
        true,
      )) as unknown as ArrayBuffer
      if (mine === turn) world.value?.marks.setTinted(new Float32Array(data, 4))
    } finally {
      looking.value--
    }
  }
  /** One more choice, joined to those before as is set, or as held keys say. */
  function choose(choice: FaceChoice, held = { shift: false, alt: false }) {
    const joined: HowJoined =
      held.shift && held.alt ? 'intersect' : held.shift ? 'add' : held.alt ? 'subtract' : how.value
    return set(joined === 'replace' ? [choice] : [...where.value, { ...choice, how: joined }])
  }
  /** Change what is chosen: grow, shrink, invert. */
  const change = (by: 'grow' | 'shrink' | 'invert') => set([...where.value, { by }])
  const clear = () => set([])
  return { where, faces, looking, how, choose, change, clear }
}

export type ChosenFaces = ReturnType<typeof useChosenFaces>
