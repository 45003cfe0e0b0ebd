import type { Photo } from '@/api/client'

/** A row of the contact sheet: a set's heading, or photos beside each other. */
export type SheetRow =
  { kind: 'heading'; set: string; count: number; open: boolean } | { kind: 'photos'; photos: Photo[] }

/** Rows of a sheet; with sets, under a heading each, of which some may be folded. */
export function rowsOf(photos: Photo[], columns: number, folded: ReadonlySet<string> | null): SheetRow[] {
  const lines = (some: Photo[]): SheetRow[] =>
    Array.from({ length: Math.ceil(some.length / columns) }, (_, k) => ({
      kind: 'photos',
      photos: some.slice(k * columns, (k + 1) * columns),
    }))
  if (!folded) return lines(photos)
  const sets = new Map<string, Photo[]>()
  for (const p of photos) {
    const name = p.set ?? ''
    if (!sets.has(name)) sets.set(name, [])
    sets.get(name)!.push(p)
  }
  return [...sets].flatMap(([set, mine]) => {
    const open = !folded.has(set)
    return [{ kind: 'heading', set, count: mine.length, open } as SheetRow, ...(open ? lines(mine) : [])]
  })
}

/** What is picked after a click on one of several in order: alone, added or taken away (ctrl), or up to it (shift). */
export function pickedBy(
  order: string[],
  before: readonly string[],
  from: string | null,
  to: string,
  keys: { shift: boolean; ctrl: boolean },
): string[] {
  if (keys.shift && from !== null && order.includes(from)) {
    const [a, b] = [order.indexOf(from), order.indexOf(to)].sort((x, y) => x - y)
    const range = order.slice(a, b + 1)
    return keys.ctrl ? [...new Set([...before, ...range])] : range
  }
  if (!keys.ctrl) return []
  const start = before.length ? before : from !== null && from !== to ? [from] : []
  return start.includes(to) ? start.filter((p) => p !== to) : [...start, to]
}

/** Photos in a wished order, and only some of them. */
export function ordered(photos: Photo[], order?: string[], only?: string[] | null): Photo[] {
  const wanted = only ? new Set(only) : null
  const shown = wanted ? photos.filter((p) => wanted.has(p.path)) : photos
  if (!order) return shown
  const at = new Map(order.map((path, k) => [path, k]))
  return [...shown].sort((a, b) => (at.get(a.path) ?? 1e9) - (at.get(b.path) ?? 1e9))
}

const MARKS: Record<string, string> = { placed: '●', weak: '◐', loose: '○', implausible: '⊘', apart: '◌' }

/** The sign of what became of a photo: left out, doubted by judging, or its state among the cameras. */
export function markOf(p: Photo): string {
  if (!p.kept || p.problem) return '⌀'
  if (p.judged && p.judged.proposal !== 'keep') return p.judged.proposal === 'leave out' ? '◆' : '◇'
  return p.state ? MARKS[p.state] : ''
}
