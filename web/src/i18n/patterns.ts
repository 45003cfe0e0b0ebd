import { IntlMessageFormat } from 'intl-messageformat'

type Parts = ReturnType<IntlMessageFormat['getAst']>

/** Names of the values that a parsed pattern asks for, and of those among them that choose between forms. */
function namesIn(parts: Parts): { asked: Set<string>; choosing: Set<string> } {
  const asked = new Set<string>()
  const choosing = new Set<string>()
  const look = (some: Parts) => {
    for (const part of some) {
      if (!('value' in part) || typeof part.value !== 'string' || part.type === 0) continue
      asked.add(part.value)
      if (!('options' in part)) continue
      choosing.add(part.value)
      for (const option of Object.values(part.options)) look(option.value)
    }
  }
  look(parts)
  return { asked, choosing }
}

const parsed = (pattern: string, language: string) =>
  new IntlMessageFormat(pattern, language, undefined, { ignoreTag: true })

/** Names of the values that a pattern asks for. */
export const valuesOf = (pattern: string): string[] =>
  [...namesIn(parsed(pattern, 'en').getAst()).asked].sort()

/** Patterns that are filled by the rules of ICU, like those of the server; numbers are written as the language has them. */
export function compiled(pattern: string, language: string): (values: Record<string, unknown>) => string {
  const format = parsed(pattern, language)
  const { choosing } = namesIn(format.getAst())
  const number = new Intl.NumberFormat(language)
  const written = (name: string, value: unknown) =>
    typeof value === 'number' && !choosing.has(name) ? number.format(value) : (value ?? '')
  return (values) => {
    const told = Object.entries(values).map(([k, v]) => [k, written(k, v) as string | number])
    try {
      return String(format.format(Object.fromEntries(told)))
    } catch (error) {
      console.error(error) // a value is missing: a mistake of ours, which must not take the page down
      return pattern.replace(/\{(\w+)[^{}]*(?:\{[^{}]*\}[^{}]*)*\}/g, '…')
    }
  }
}
