import { ref } from 'vue'

/**
 * Work that is done one after the other, in the order it was asked for: what is asked while something is under way
 * waits for it, and is never dropped. One that fails does not keep the rest from being done.
 *
 * `took` gets each result; `settled` is called when nothing waits any more, with something done since it last was.
 */
export function useInTurn<T>(took: (result: T) => void, settled: () => unknown) {
  const waiting = ref(0)
  let last: Promise<unknown> = Promise.resolve()
  let changed = false

  function act(work: () => Promise<T>): Promise<void> {
    waiting.value++
    const mine = last
      .then(work)
      .then((result) => {
        changed = true
        took(result)
      })
      .finally(() => {
        waiting.value--
      })
    last = mine
      .catch(() => undefined)
      .then(async () => {
        if (waiting.value || !changed) return
        changed = false
        await Promise.resolve(settled()).catch(() => undefined)
      })
    return mine
  }
  return { waiting, act }
}
