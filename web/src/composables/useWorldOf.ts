import { ElMessage } from 'element-plus'
import { shallowRef, watch, type Ref } from 'vue'
import { Told } from '@/api/client'
import { i18n } from '@/i18n'
import { Superseded } from '@/lib/latest'
import type { World } from '@/world/World'

/** Say what could not be loaded; what was only no longer wanted is nothing to speak of. */
function failed(error: unknown) {
  if (error instanceof Superseded || error instanceof Told) return
  const why = error instanceof Error ? error.message : String(error)
  ElMessage({
    message: i18n.global.t('world.failed', { why }),
    type: 'error',
    duration: 0,
    showClose: true,
  })
}

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
    at.onBusy(1)
    try {
      await fill(at, number.value)
    } catch (error) {
      return failed(error)
    } finally {
      at.onBusy(-1)
    }
    if (!framed) at.views.home()
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
    try {
      await show(at, n)
    } catch (error) {
      return failed(error)
    }
    at.split = 0.5
    at.request()
  })
}

/** Where the cloud of a layer is, as the server packs it. */
export function cloudUrl(project: number, layer: string, number: number, budget?: number) {
  return `/api/v1/projects/${project}/layers/${layer}/cloud?number=${number}${budget ? `&budget=${budget}` : ''}`
}
