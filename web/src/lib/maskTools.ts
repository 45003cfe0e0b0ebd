import type { MaskEdit } from '@/api/client'

export type MaskTool = 'look' | 'outline' | 'lasso' | 'brush' | 'colour'
/** What an area is drawn for: to add it, to take it away, to grow the subject from it, to have it ignored always. */
export type MaskPurpose = 'add' | 'away' | 'grow' | 'ignore'
type Place = [number, number]

export const TOOLS: MaskTool[] = ['look', 'outline', 'lasso', 'brush', 'colour']
/** What each tool can be used for. */
export const PURPOSES: Record<MaskTool, MaskPurpose[]> = {
  look: [],
  colour: [],
  outline: ['grow', 'add', 'away', 'ignore'],
  lasso: ['grow', 'add', 'away', 'ignore'],
  brush: ['add', 'away'],
}

/** A line without places that lie closer together than a share of the photo's width that nobody draws. */
export function thinned(line: Place[], least = 0.0015): Place[] {
  const out: Place[] = []
  for (const [x, y] of line) {
    const last = out[out.length - 1]
    if (!last || Math.hypot(x - last[0], y - last[1]) >= least)
      out.push([Number(x.toFixed(5)), Number(y.toFixed(5))])
  }
  return out.slice(0, 5000)
}

/** The edit that a drawn line makes; null where it is too little. With `away` adding takes away, and the other way round. */
export function editOf(
  tool: MaskTool,
  purpose: MaskPurpose,
  points: Place[],
  radius: number,
  soft: boolean,
  away = false,
): MaskEdit | null {
  const add = (purpose === 'add') !== away
  if (tool === 'brush')
    return points.length ? { kind: 'brush', points, radius, add, hardness: soft ? 0.4 : 1 } : null
  if ((tool !== 'outline' && tool !== 'lasso') || points.length < 3) return null
  if (purpose === 'grow') return { kind: 'grow', points, wanted: [], unwanted: [] }
  if (purpose === 'ignore') return { kind: 'outline', points, add: false, snap: false, part: 'ignore' }
  return { kind: 'outline', points, add, snap: soft, part: 'subject' }
}
