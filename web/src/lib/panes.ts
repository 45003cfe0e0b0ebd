/** How two panes share a room: the second beside the first or under it, and the share of the room that it takes. */
export interface Share {
  side: 'beside' | 'under'
  share: number
}

/** A second pane takes no less and no more of the room than this, unless somebody drags it. */
const LEAST = 0.25
const MOST = 0.45

const within = (v: number, low: number, high: number) => Math.min(high, Math.max(low, v))

/**
 * Where photos of a shape (width over height) leave least of their pane empty, `count` of them one after the other, and
 * how large that pane has to be to hold them.
 */
export function bestShare(room: [number, number], aspect: number, count = 1, most = MOST): Share {
  const [w, h] = room
  if (!(w > 0 && h > 0 && aspect > 0)) return { side: 'beside', share: 0.35 }
  const beside = within((aspect * h) / count / w, LEAST, most)
  const under = within(w / count / aspect / h, LEAST, most)
  // the part of each pane that photos cover
  const cover = (pw: number, ph: number) => Math.min(pw, ph * aspect) ** 2 / aspect / (pw * ph)
  const coverBeside = cover(beside * w, h / count)
  const coverUnder = cover(w / count, under * h)
  return coverBeside >= coverUnder ? { side: 'beside', share: beside } : { side: 'under', share: under }
}
