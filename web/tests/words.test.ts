// @vitest-environment node
import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { expect, it } from 'vitest'
import { en } from '@/i18n/en'
import { valuesOf } from '@/i18n/patterns'

const SOURCE = join(__dirname, '..', 'src')
const files = (folder: string): string[] =>
  readdirSync(folder, { withFileTypes: true }).flatMap((f) =>
    f.isDirectory() ? files(join(folder, f.name)) : /\.(vue|ts)$/.test(f.name) ? [join(folder, f.name)] : [],
  )
const texts = files(SOURCE)
  .filter((f) => !f.endsWith('.d.ts') && !/i18n\/(en|de)\.ts$/.test(f))
  .map((f) => [f.slice(SOURCE.length + 1), readFileSync(f, 'utf8')] as const)

function paths(tree: object, before = ''): string[] {
  return Object.entries(tree).flatMap(([k, v]) =>
    typeof v === 'string' ? [before + k] : paths(v as object, `${before}${k}.`),
  )
}
const known = paths(en)
/** Keys that stand in the source as they are, and the beginnings (and ends) of those that are put together. */
const named = new Set<string>()
const made: RegExp[] = []
for (const [, text] of texts) {
  for (const [, , key] of text.matchAll(/(['"`])([a-zA-Z]+(?:\.[\w -]+)+)\1/g)) named.add(key)
  for (const [, key] of text.matchAll(/`([a-zA-Z]+\.[^`\s]*\$\{[^`]*)`/g))
    made.push(new RegExp(`^${key.replace(/\./g, '\\.').replace(/\$\{(?:[^{}]|\{[^}]*\})*\}/g, '.+')}$`))
}

/** Signs that are the same in every language. */
const UNITS = new Set(['GB', 'mm', 'px', 'EV'])

it('every word of the catalogue is used', () => {
  const unused = known.filter((k) => !named.has(k) && !made.some((m) => m.test(k)))
  expect(unused).toEqual([])
})

it('every key that is asked for is in the catalogue', () => {
  const sections = Object.keys(en)
  const missing: string[] = []
  for (const [file, text] of texts)
    for (const [, , key] of text.matchAll(/\bt\(\s*(['"])([\w.-]+)\1/g))
      if (sections.includes(key.split('.')[0]) ? !known.includes(key) : key.includes('.'))
        missing.push(`${file}: ${key}`)
  expect(missing).toEqual([])
})

it('no pattern is said without the values that it asks for', () => {
  const bare: string[] = []
  for (const [file, text] of texts)
    for (const [, , key] of text.matchAll(/\bt\(\s*(['"])([\w. -]+)\1\s*\)/g)) {
      const pattern = key
        .split('.')
        .reduce<unknown>((at, part) => (at as Record<string, unknown>)?.[part], en)
      if (typeof pattern === 'string' && valuesOf(pattern).length) bare.push(`${file}: ${key}`)
    }
  expect(bare).toEqual([])
})

it('no component says anything that is not in the catalogue', () => {
  const found: string[] = []
  for (const [file, text] of texts.filter(([f]) => f.endsWith('.vue'))) {
    const template = text.match(/<template>([\s\S]*)<\/template>/)?.[1] ?? ''
    const shown = template
      .replace(/<!--[\s\S]*?-->/g, '')
      .replace(/\{\{[\s\S]*?\}\}/g, ' ')
      .replace(/<[a-zA-Z/](?:"[^"]*"|'[^']*'|[^"'>])*>/g, ' ')
    for (const word of shown.match(/[A-Za-z]{2,}/g) ?? [])
      if (!UNITS.has(word)) found.push(`${file}: ${word}`)
    for (const [, what, said] of template.matchAll(
      /\s(title|placeholder|aria-label|alt|label)="([^"]*[A-Za-z]{3,}[^"]*)"/g,
    ))
      if (!said.startsWith('http')) found.push(`${file}: ${what}=${said}`)
  }
  expect(found).toEqual([])
})
