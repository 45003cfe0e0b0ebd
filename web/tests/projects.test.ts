import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { Project } from '@/api/client'
import ProjectSlab from '@/components/ProjectSlab.vue'
import { en } from '@/i18n/en'
import { benchOf, listed, stateOf } from '@/lib/projects'
import { asked, freshStores, mount, said, serverAnswers, settled } from './mount'

const project = (more: Partial<Project> = {}): Project =>
  ({
    id: 1,
    name: 'Well-head',
    made: '2026-11-20T10:00:00.000+00:00',
    grade: 'dressed',
    photos: 28,
    bytes: 5e6,
    cache_bytes: 0,
    best_layer: null,
    running: false,
    planned: 0,
    picture: null,
    poster: null,
    film: null,
    laps: [],
    shape: '',
    ...more,
  }) as Project

it('says what there is and what comes next, for every layer that a project can have got to', () => {
  expect(stateOf(project({ photos: 0 }))).toBe('projects.state.none')
  expect(stateOf(project({ photos: 0, planned: 60 }))).toBe('projects.state.planned')
  expect(stateOf(project())).toBe('projects.state.photos')
  for (const best_layer of ['photos', 'cameras', 'points', 'surface', 'texture', 'finish']) {
    const key = stateOf(project({ best_layer })).split('.').pop()!
    expect(Object.keys(en.projects.state)).toContain(key)
  }
})

it('opens at the best result, else where the next step is', () => {
  expect(benchOf(project({ best_layer: 'texture' }))).toBe('texture')
  expect(benchOf(project())).toBe('photos')
  expect(benchOf(project({ photos: 0, planned: 60 }))).toBe('plan')
  expect(benchOf(project({ photos: 0 }))).toBe('photos')
})

it('finds by words in any order, case and accent, and sorts', () => {
  const all = [
    project({ id: 1, name: 'Finial 10', bytes: 3 }),
    project({ id: 2, name: 'Église, finial 9', bytes: 9 }),
    project({ id: 3, name: 'Milestone', bytes: 5 }),
  ]
  const names = (words: string, order: Parameters<typeof listed>[2]) =>
    listed(all, words, order).map((p) => p.id)
  expect(names('', 'newest')).toEqual([3, 2, 1])
  expect(names('FINIAL eglise', 'newest')).toEqual([2])
  expect(names('finial', 'name')).toEqual([2, 1])
  expect(names('', 'largest')).toEqual([2, 3, 1])
  expect(names('well', 'name')).toEqual([])
  expect(all.map((p) => p.id)).toEqual([1, 2, 3])
})

describe('a project on the first page', () => {
  beforeEach(() => {
    freshStores()
    serverAnswers()
  })
  afterEach(() => (document.body.innerHTML = ''))

  it('is renamed in its place', async () => {
    const changed = vi.fn()
    const slab = mount(ProjectSlab, { project: project(), onChanged: changed })
    slab.button('Rename')!.click()
    await settled()
    const field = slab.find('input') as HTMLInputElement
    field.value = '  Well-head, north  '
    field.dispatchEvent(new Event('input'))
    field.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter' }))
    await settled()
    expect(asked.filter((a) => a.method === 'PATCH')).toEqual([
      { method: 'PATCH', path: '/api/v1/projects/1', body: { name: 'Well-head, north' } },
    ])
    expect(changed).toHaveBeenCalledTimes(1)
    slab.close()
  })

  it('keeps its name when the new one is empty or given up', async () => {
    const slab = mount(ProjectSlab, { project: project() })
    for (const [value, key] of [
      ['   ', 'Enter'],
      ['Other', 'Escape'],
    ]) {
      slab.button('Rename')!.click()
      await settled()
      const field = slab.find('input') as HTMLInputElement
      field.value = value
      field.dispatchEvent(new Event('input'))
      field.dispatchEvent(new KeyboardEvent('keydown', { key }))
      await settled()
      expect(slab.find('.name')!.textContent).toBe('Well-head')
    }
    expect(asked).toEqual([])
    slab.close()
  })

  it('has a picture of its own even when there is nothing yet, and opens by its name', () => {
    const opened = vi.fn()
    const slab = mount(ProjectSlab, { project: project({ photos: 0 }), onOpen: opened })
    expect(slab.find('svg.blank')).not.toBeNull()
    expect(slab.host.textContent).toContain('no photos yet')
    slab.find('.name')!.click()
    expect(opened).toHaveBeenCalledTimes(1)
    slab.close()
  })
})

it('a project whose files are damaged says so, and can still be removed', () => {
  const slab = mount(ProjectSlab, { project: project({ trouble: said('in-use.json cannot be read.') }) })
  expect(slab.find('.trouble')!.textContent).toBe('in-use.json cannot be read.')
  expect(slab.button(en.projects.remove)).toBeDefined()
  slab.close()
  const whole = mount(ProjectSlab, { project: project() })
  expect(whole.find('.trouble')).toBeNull()
  whole.close()
})
