/** What things in the world are drawn with, for daylight and for dusk: each shows up against the sky of its theme. */
export interface Tones {
  placed: number
  weak: number
  loose: number
  planned: number
  chosen: number
  dot: number
  boxEdge: number
  boxTab: number
  gridStrong: number
  gridFine: number
  /** What points outside the keep box fade to (red, green, blue in linear light), and how far. */
  outside: [number, number, number, number]
}

const DAY: Tones = {
  placed: 0x3a372f,
  weak: 0x8f5a0f,
  loose: 0xa63d2f,
  planned: 0x075350,
  chosen: 0x0e7c7b,
  dot: 0x26241f,
  boxEdge: 0x8a4b00,
  boxTab: 0xd9a441,
  gridStrong: 0xa89877,
  gridFine: 0xcfc4ad,
  outside: [0.86, 0.82, 0.74, 0.5],
}
const DUSK: Tones = {
  placed: 0xe2dac8,
  weak: 0xe3aa52,
  loose: 0xe98b79,
  planned: 0x7fd6d0,
  chosen: 0x43d0c9,
  dot: 0xf6f0e2,
  boxEdge: 0xe6b45f,
  boxTab: 0xd9a441,
  gridStrong: 0x7d7667,
  gridFine: 0x4c4840,
  outside: [0.035, 0.034, 0.03, 0.72],
}
export const tonesOf = (dusk: boolean): Tones => (dusk ? DUSK : DAY)
