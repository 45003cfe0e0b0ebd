import german from '../../../src/vast_quarry/words/de.json'
import { spoken } from './numbers'
import { compiled } from './patterns'

/** A sentence of the server: in English, and how it was put together. */
export interface Sentence {
  text: string
  pattern: string
  values: Record<string, unknown>
  /** Stays when the sentence is worded anew; empty for what is not one of the program. */
  code?: string
}

const CATALOGUES: Record<string, Record<string, string>> = { de: german }
const known = new Map<string, (values: Record<string, unknown>) => string>()

/** A sentence or a word of the server in the language of the page; what its catalogue does not have stays English. */
export function say(what: Sentence | string | null | undefined): string {
  if (!what) return ''
  const language = spoken.value
  const catalogue = CATALOGUES[language]
  if (typeof what === 'string') return catalogue?.[what] ?? what
  if (!catalogue) return what.text
  const pattern = catalogue[what.pattern] ?? what.pattern
  const key = `${language} ${pattern}`
  try {
    let fill = known.get(key)
    if (!fill) known.set(key, (fill = compiled(pattern, language)))
    return fill(Object.fromEntries(Object.entries(what.values).map(([k, v]) => [k, value(v)])))
  } catch {
    return what.text // a pattern that is none: text of the outside world with braces in it
  }
}

/** What one of a setting's choices is called. */
export const choiceLabel = (
  s: { choices?: string[] | null; labels?: Parameters<typeof say>[0][] | null },
  choice: string,
) => say(s.labels?.[s.choices?.indexOf(choice) ?? -1] ?? choice)

function value(v: unknown): unknown {
  if (Array.isArray(v)) return new Intl.ListFormat(spoken.value).format(v.map((x) => String(value(x))))
  if (typeof v === 'string') return say(v)
  if (v && typeof v === 'object' && 'pattern' in v) return say(v as Sentence)
  return v
}
