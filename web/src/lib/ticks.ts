/** Round places to write along an axis: two to four of them within the range. */
export function ticks(low: number, high: number): number[] {
  const span = high - low
  if (!(span > 0) || !Number.isFinite(span)) return [low]
  const rough = span / 3
  const size = 10 ** Math.floor(Math.log10(rough))
  const step = size * ([1, 2, 5, 10].find((k) => k * size >= rough * 0.75) ?? 10)
  const first = Math.ceil(low / step - 1e-9)
  const last = Math.floor(high / step + 1e-9)
  return Array.from({ length: last - first + 1 }, (_, k) => (first + k) * step)
}

/** Digits after the decimal sign that a step needs. */
export const digitsOf = (places: number[]): number => {
  const step = places.length > 1 ? places[1] - places[0] : Math.abs(places[0]) || 1
  return Math.min(4, Math.max(0, -Math.floor(Math.log10(step) + 1e-9)))
}
