import type { Project } from '@/api/client'

/** What projects may be sorted by. */
export const ORDERS = ['newest', 'name', 'largest'] as const
export type Order = (typeof ORDERS)[number]

/** What there is of a project and what comes next, as a key of the catalogue. */
export function stateOf(p: Pick<Project, 'best_layer' | 'photos' | 'planned' | 'videos'>): string {
  if (p.best_layer && p.best_layer !== 'photos') return `projects.state.${p.best_layer}`
  if (p.photos) return 'projects.state.photos'
  if (p.videos) return 'projects.state.filmed'
  return p.planned ? 'projects.state.planned' : 'projects.state.none'
}

/** Where a project is best opened: at its best result, else where the next step is. */
export function benchOf(p: Pick<Project, 'best_layer' | 'photos' | 'planned' | 'videos'>): string {
  return p.best_layer ?? (p.photos || p.videos || !p.planned ? 'photos' : 'plan')
}

/** Projects whose names hold all words, whatever their case and accents, in an order. */
export function listed(projects: Project[], words: string, order: Order): Project[] {
  const plain = (s: string) => s.normalize('NFD').replace(/\p{M}/gu, '').toLocaleLowerCase()
  const wanted = plain(words).split(/\s+/).filter(Boolean)
  const by: Record<Order, (a: Project, b: Project) => number> = {
    newest: (a, b) => b.id - a.id,
    name: (a, b) => a.name.localeCompare(b.name, undefined, { numeric: true }) || b.id - a.id,
    largest: (a, b) => b.bytes - a.bytes,
  }
  return projects.filter((p) => wanted.every((w) => plain(p.name).includes(w))).sort(by[order])
}
