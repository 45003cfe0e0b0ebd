import { ref } from 'vue'

/** The language that numbers and dates are written in; what shows them follows when it changes. */
export const spoken = ref('en')
export const speak = (language: string) => (spoken.value = language)

/** A number with so many digits after the decimal sign. */
export const fixed = (x: number | null | undefined, digits: number): string =>
  x === null || x === undefined
    ? ''
    : new Intl.NumberFormat(spoken.value, {
        minimumFractionDigits: digits,
        maximumFractionDigits: digits,
        useGrouping: Math.abs(x) >= 1e4,
      }).format(x)

/** A number as short as it is. */
export const number = (x: number): string =>
  new Intl.NumberFormat(spoken.value, { maximumFractionDigits: 6 }).format(x)

/** A day. */
export const day = (when: string): string =>
  new Date(when).toLocaleDateString(spoken.value, { day: 'numeric', month: 'short', year: 'numeric' })

/** A number with two digits that count. */
export const short = (x: number): string =>
  new Intl.NumberFormat(spoken.value, { maximumSignificantDigits: 2 }).format(x)

/** A day with the time of day. */
export const clock = (when: string): string =>
  new Date(when).toLocaleString(spoken.value, {
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
  })
