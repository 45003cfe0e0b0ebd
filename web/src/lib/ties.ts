import { fixed } from '@/i18n/numbers'
import { i18n } from '@/i18n'
import type { CloudMode } from '@/world/build'

/** The tied feature nearest to a place in a photo, within a reach (pixels); null where none is so near. */
export function nearestTie(tied: number[][], x: number, y: number, reach: number): number[] | null {
  let best = reach
  let found: number[] | null = null
  for (const p of tied) {
    const off = Math.hypot(p[0] - x, p[1] - y)
    if (off < best) [best, found] = [off, p]
  }
  return found
}

/** The ends of a colour scale, in the unit of what it shows; lengths are told in millimetres where the scale is known. */
export function scaleWords(mode: CloudMode, [low, high]: number[], scaled = false): string {
  if (mode === 'gsd' && scaled) [low, high] = [1000 * low, 1000 * high]
  const unit = {
    error: ' px',
    sigma: ' GSD',
    gsd: scaled ? ' mm' : '',
    views: '',
    height: '',
    color: '',
    normal: '',
    photo: '',
  }[mode]
  const digits = mode === 'views' ? 0 : mode === 'gsd' && !scaled ? 5 : 2
  const name = i18n.global.t(`world.${mode}`)
  return `${name} ${fixed(low, digits)} ▁▃▅▇ ${fixed(high, digits)}${mode === 'views' ? '+' : unit}`
}
