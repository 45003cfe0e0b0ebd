import { fixed } from '@/i18n/numbers'
/** Seconds as minutes and seconds. */
export function clock(seconds: number): string {
  const tenths = Math.round(10 * Math.max(0, seconds))
  const rest = tenths % 600
  return `${Math.floor(tenths / 600)}:${rest < 100 ? '0' : ''}${fixed(rest / 10, 1)}`
}

/** Place of the value nearest to one that is looked for, in a list that grows. */
export function nearest(sorted: readonly number[], wanted: number): number {
  let low = 0
  let high = sorted.length - 1
  while (low < high) {
    const middle = (low + high) >> 1
    if (sorted[middle] < wanted) low = middle + 1
    else high = middle
  }
  if (low > 0 && wanted - sorted[low - 1] <= sorted[low] - wanted) return low - 1
  return low
}

/** Stretches (from, to) of times at which something is not so, each up to the next time. */
export function stretches(times: readonly number[], so: readonly boolean[]): [number, number][] {
  const out: [number, number][] = []
  so.forEach((yes, k) => {
    if (yes) return
    const end = times[Math.min(k + 1, times.length - 1)]
    if (k > 0 && !so[k - 1] && out.length) out[out.length - 1][1] = end
    else out.push([times[k], end])
  })
  return out
}
