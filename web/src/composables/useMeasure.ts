import { computed, ref, shallowRef, watch } from 'vue'
import { api, ask, type MarkHelp } from '@/api/client'
import { useSteps } from '@/composables/useSteps'
import { complete, marked, newBar, type Bar, type End } from '@/lib/bars'
import { useProject } from '@/stores/project'

/** Measuring distances for the scale: which end is being marked, in which photos, and where it must lie in the next. */
export function useMeasure(placed: () => { width: number; height: number } | null) {
  const project = useProject()
  const measuring = ref(false)
  const { items: bars, before, begin, set, undo: stepBack } = useSteps<Bar>()
  const active = ref<{ bar: number; end: End }>({ bar: 0, end: 'a' })
  const kept = computed(() => (project.version('cameras')?.settings.bars as Bar[] | undefined) ?? [])
  const told = computed(
    () => (project.version('cameras')?.figures as { bars?: { name: string; miss_mm: number }[] })?.bars ?? [],
  )
  const help = shallowRef<MarkHelp | null>(null)

  function open() {
    measuring.value = true
    begin(kept.value.length ? kept.value : [newBar([])])
    active.value = { bar: 0, end: 'a' }
  }
  function undo() {
    if (!stepBack()) return
    active.value = { bar: Math.min(active.value.bar, bars.value.length - 1), end: active.value.end }
  }
  function add() {
    set([...bars.value, newBar(bars.value)])
    active.value = { bar: bars.value.length - 1, end: 'a' }
  }
  function remove(k: number) {
    set(bars.value.filter((_, n) => n !== k))
    active.value = { bar: Math.max(0, Math.min(active.value.bar, bars.value.length - 1)), end: 'a' }
  }
  /** A click on the photo, in parts of its sides: the active end is there. Pixel centres are whole numbers. */
  function place(x: number, y: number) {
    const size = placed()
    if (!measuring.value || !project.selected || !size || !bars.value[active.value.bar]) return
    const at: [number, number] = [x * size.width - 0.5, y * size.height - 0.5]
    set(marked(bars.value, active.value.bar, active.value.end, project.selected, at))
  }

  /** All marks in the photo that is shown. */
  const here = computed(() =>
    !measuring.value || !project.selected
      ? []
      : bars.value.flatMap((bar, k) =>
          (['a', 'b'] as const)
            .filter((end) => bar[end].marks[project.selected!])
            .map((end) => ({
              at: bar[end].marks[project.selected!],
              name: `${bar.name}${end === 'a' ? 1 : 2}`,
              on: k === active.value.bar && end === active.value.end,
            })),
        ),
  )
  let asked = 0
  watch(
    [measuring, active, bars, () => project.selected],
    async () => {
      const mine = ++asked
      help.value = null
      const photo = project.selected
      const marks = { ...bars.value[active.value.bar]?.[active.value.end].marks }
      if (!measuring.value || !photo || !placed() || !Object.keys(marks).some((p) => p !== photo)) return
      if (Object.keys(marks).length === 2) delete marks[photo]
      const answer = await ask(
        api.POST('/api/v1/projects/{project_id}/layers/cameras/mark-help', {
          ...project.path,
          body: { marks, photo },
        }),
      )
      if (mine === asked) help.value = answer as MarkHelp
    },
    { deep: true },
  )
  const close = () => (measuring.value = false)
  async function apply() {
    measuring.value = false
    await project.change('cameras', {
      bars: bars.value.filter(complete).map((b) => ({ ...b, length_mm: b.length_mm! })),
    })
    await project.run('cameras')
  }
  return {
    measuring,
    close,
    bars,
    before,
    active,
    told,
    help,
    here,
    open,
    set,
    undo,
    add,
    remove,
    place,
    apply,
  }
}

export type Measure = ReturnType<typeof useMeasure>
