import { expect, it } from 'vitest'
import german from '../../src/vast_quarry/words/de.json'
import { placeOf } from '@/lib/remedies'
import source from '@/lib/remedies.ts?raw'
import { said } from './mount'

const failed = (what: string, remedy: string) => ({
  text: `${what} ${remedy}`,
  pattern: '{s0} {s1}',
  values: { s0: said(what), s1: remedy },
})

it('leads to the layer where an advice is followed', () => {
  expect(placeOf(failed('There are no photos yet.', 'Bring some in, or shoot with the practice rig.'))).toBe(
    'photos',
  )
  expect(
    placeOf(
      failed('The background stands still.', 'Mask the subject in all photos (Masks), or walk round it.'),
    ),
  ).toBe('masks')
  expect(placeOf(failed('Nothing of the surface lies in the keep box.', 'Make the keep box larger.'))).toBe(
    'cameras',
  )
  expect(placeOf(failed('The disk is full.', 'Free some space and try again.'))).toBeNull()
})

it('knows only sentences that the program says', () => {
  const known = Object.keys(german)
  const starts = [...source.matchAll(/^\s{6}'([^']+)',?$/gm)].map((m) => m[1])
  const inline = [...source.matchAll(/\['(Mask the [^\]]+)\]/g)].flatMap(
    (m) => `'${m[1]}`.match(/'([^']+)'/g) ?? [],
  )
  const all = [...starts, ...inline.map((s) => s.slice(1, -1))]
  expect(all.length).toBeGreaterThan(15)
  expect(all.filter((s) => !known.some((k) => k.startsWith(s)))).toEqual([])
})
