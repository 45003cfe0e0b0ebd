import { expect, it } from 'vitest'
import codes from '../../src/vast_quarry/words/codes.json'
import { BY_MASKS, placeOf, PLACES } from '@/lib/remedies'
import { said } from './mount'

const failed = (what: string, remedy: string) => ({
  text: `${what} ${remedy}`,
  pattern: '{s0} {s1}',
  values: { s0: said(what), s1: said(remedy) },
  code: '',
})

it('leads to the layer where an advice is followed', () => {
  expect(placeOf(failed('There are no photos yet.', 'Bring some in, or shoot with the practice rig.'))).toBe(
    'photos',
  )
  expect(placeOf(failed('The background stands still.', codes['mask-the-subject-in-all']))).toBe('masks')
  expect(placeOf(failed('Nothing of the surface lies in the keep box.', 'Make the keep box larger.'))).toBe(
    'cameras',
  )
  expect(placeOf(failed('The disk is full.', 'Free some space and try again.'))).toBeNull()
})

it('knows only sentences that the program says', () => {
  const all = [...Object.values(PLACES).flat(), ...BY_MASKS]
  expect(all.length).toBeGreaterThan(25)
  expect(all.filter((code) => !(code in codes))).toEqual([])
})
