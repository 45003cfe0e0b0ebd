import { fixed } from '@/i18n/numbers'

/** Numbers with units, short and readable. */
export function bytes(n: number): string {
  if (n < 1e3) return `${n} B`
  if (n < 1e6) return `${fixed(n / 1e3, 0)} kB`
  if (n < 1e9) return `${fixed(n / 1e6, 1)} MB`
  return `${fixed(n / 1e9, 2)} GB`
}

export function count(n: number): string {
  if (n < 1000) return String(n)
  if (n < 1e6) return `${fixed(n / 1e3, n < 1e4 ? 1 : 0)} k`
  return `${fixed(n / 1e6, 1)} M`
}

export function seconds(s: number | null | undefined): string {
  if (s === null || s === undefined) return ''
  if (s < 90) return `${Math.max(1, Math.round(s))} s`
  const minutes = Math.floor(s / 60)
  return `${minutes} min ${Math.round(s - 60 * minutes)} s`
}

/** A length in metres in the unit that reads best. */
export function metres(m: number): string {
  if (!Number.isFinite(m) || m > 9e5) return '∞'
  if (Math.abs(m) < 0.01) return `${fixed(m * 1000, 1)} mm`
  if (Math.abs(m) < 0.995) return `${fixed(m * 100, 0)} cm`
  return `${fixed(m, 2)} m`
}

/** A share of one in per cent. */
export const percent = (share: number): string => `${fixed(100 * share, 0)} %`
