import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import german from '../../src/vast_quarry/words/de.json'
import { i18n, setLanguage } from '@/i18n'
import { de } from '@/i18n/de'
import { en } from '@/i18n/en'
import { fixed } from '@/i18n/numbers'
import { compiled, valuesOf } from '@/i18n/patterns'
import { say } from '@/i18n/say'

beforeEach(() => setLanguage('en'))
afterEach(() => setLanguage('en'))

const leaves = (tree: object, before = ''): [string, string][] =>
  Object.entries(tree).flatMap(([k, v]) =>
    typeof v === 'string' ? [[before + k, v] as [string, string]] : leaves(v as object, `${before}${k}.`),
  )
it('says everything in German, with the same values', () => {
  const there = new Map(leaves(de))
  for (const [key, text] of leaves(en)) {
    expect(valuesOf(there.get(key)!), key).toEqual(valuesOf(text))
    expect(() => compiled(there.get(key)!, 'de'), key).not.toThrow()
    expect(() => compiled(text, 'en'), key).not.toThrow()
  }
  for (const [pattern, text] of Object.entries(german)) {
    expect(valuesOf(text), pattern).toEqual(valuesOf(pattern))
    expect(() => compiled(text, 'de'), pattern).not.toThrow()
  }
})

it('counts one and many, and writes numbers as the language does', () => {
  const t = i18n.global.t
  expect(t('plan.findings', { n: 1 })).toBe('One thing to know')
  expect(t('plan.findings', { n: 3 })).toBe('3 things to know')
  expect(fixed(1.5, 2)).toBe('1.50')
  setLanguage('de')
  expect(t('plan.findings', { n: 1 })).toBe('Ein Hinweis')
  expect(t('plan.findings', { n: 3 })).toBe('3 Hinweise')
  expect(fixed(1.5, 2)).toBe('1,50')
  expect(document.documentElement.lang).toBe('de')
})

it('says sentences of the server, with sentences and lists in them', () => {
  const blurred = {
    text: 'has about 2.5 px of motion blur (3 times the usual)',
    pattern: 'has about {px} px of motion blur ({ratio} times the usual)',
    values: { px: 2.5, ratio: 3 },
  }
  const whole = {
    text: `a.jpg ${blurred.text}`,
    pattern: '{name} {problem}',
    values: { name: 'a.jpg', problem: blurred },
  }
  const solved = {
    text: 'Solved from the photos: focal length and axis.',
    pattern: 'Solved from the photos: {what}.',
    values: { what: [{ text: 'focal length', pattern: 'focal length', values: {} }, 'axis'] },
  }
  expect(say(whole)).toBe('a.jpg has about 2.5 px of motion blur (3 times the usual)')
  setLanguage('de')
  expect(say(whole)).toBe('a.jpg hat etwa 2,5 px Bewegungsunschärfe (das 3-Fache des Üblichen)')
  expect(say(solved)).toBe('Aus den Fotos berechnet: Brennweite und Achse.')
  expect(say('Placing cameras')).toBe('Kameras platzieren')
})

it('goes on where a value is missing, and says so to those who look for mistakes', () => {
  const told = vi.spyOn(console, 'error').mockImplementation(() => undefined)
  expect(compiled('{n, plural, one {# lap} other {# laps}} done', 'en')({})).toBe('… done')
  expect(told).toHaveBeenCalled()
  told.mockRestore()
})

it('leaves what no catalogue has as it was said', () => {
  setLanguage('de')
  const strange = { text: 'a {b', pattern: 'a {b', values: {} }
  expect(say(strange)).toBe('a {b')
  expect(say(null)).toBe('')
})
