import { shallowRef, watch, type Ref } from 'vue'
import type { World } from '@/world/World'

/** The world of a bench that shows a version: filled when it is ready and when the version changes, framed once. */
export function useWorldOf(
  number: Ref<number | null>,
  fill: (world: World, number: number) => Promise<void>,
) {
  const world = shallowRef<World | null>(null)
  let framed = false

  async function again() {
    const at = world.value
    if (!at || number.value === null) return
    await fill(at, number.value)
    if (!framed) at.home()
    framed = true
  }
  function ready(w: World) {
    world.value = w
    framed = false
    void again()
  }
  watch(number, again)
  return { world, ready, again, reframe: () => (framed = false) }
}

/** Shows another version on the far side of a line while one is compared. */
export function useCompared(
  world: Ref<World | null>,
  compared: () => number | null,
  show: (world: World, number: number) => Promise<void>,
) {
  watch([compared, world], async ([n, at]) => {
    if (!at) return
    if (n === null) return at.endComparing()
    await show(at, n)
    at.split = 0.5
    at.request()
  })
}

/** A cloud of a layer as the server packs it. */
export async function fetchCloud(project: number, layer: string, number: number, budget?: number) {
  const most = budget ? `&budget=${budget}` : ''
  const answer = await fetch(`/api/projects/${project}/layers/${layer}/cloud?number=${number}${most}`)
  return await answer.arrayBuffer()
}
