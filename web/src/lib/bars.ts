/** Measured distances while they are set: marks of both ends, and what is still missing. */
export type End = 'a' | 'b'
export type Pixel = [number, number]
export type Marks = Record<string, Pixel>
export interface Bar {
  name: string
  a: { marks: Marks; at?: [number, number, number] | null }
  b: { marks: Marks; at?: [number, number, number] | null }
  length_mm: number | null
  within_mm: number
  checks: boolean
}

export const letter = (k: number) => String.fromCharCode(65 + (k % 26))

/** A new distance, named by a letter that none has yet. */
export function newBar(bars: Bar[]): Bar {
  let k = 0
  while (bars.some((b) => b.name === letter(k)) && k < 25) k++
  return {
    name: letter(k),
    a: { marks: {} },
    b: { marks: {} },
    length_mm: null,
    within_mm: 0.5,
    checks: false,
  }
}

/** Whether an end is known: marked in two photos, or picked in space. */
export const known = (bar: Bar, end: End) => Object.keys(bar[end].marks).length >= 2 || !!bar[end].at

/** Whether a distance can be used as it is. */
export const complete = (bar: Bar) =>
  known(bar, 'a') && known(bar, 'b') && !!bar.length_mm && bar.length_mm > 0 && bar.name.trim() !== ''

/** The same distances with a mark of one end in a photo, or without it. */
export function marked(bars: Bar[], k: number, end: End, photo: string, at: Pixel | null): Bar[] {
  return bars.map((bar, n) => {
    if (n !== k) return bar
    const marks = { ...bar[end].marks }
    if (at) marks[photo] = at
    else delete marks[photo]
    return { ...bar, [end]: { ...bar[end], marks } }
  })
}
