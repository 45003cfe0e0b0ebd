/** Side of a tile and longest side of a preview (pixels), as the server cuts them. */
export const TILE = 512
export const PREVIEW = 1200

export interface Tile {
  level: number
  x: number
  y: number
  /** Place on the photo at full size (pixels). */
  left: number
  top: number
  width: number
  height: number
}

/** How a photo lies in its pane: fitted into it, then zoomed about the middle and shifted. */
export interface PhotoView {
  room: number[]
  size: number[]
  zoom: number
  shift: number[]
}

/** Tiles that show in a pane at the level its zoom asks for; none where the preview is fine enough. */
export function tilesInView(view: PhotoView, pixelRatio = 1): Tile[] {
  const [w, h] = view.size
  const longest = Math.max(w, h)
  const fitted = Math.min(view.room[0] / w, view.room[1] / h)
  if (!(fitted > 0) || longest <= PREVIEW) return []
  const scale = fitted * view.zoom * pixelRatio
  if (scale <= PREVIEW / longest) return []
  let levels = 0
  for (let side = longest; side > PREVIEW; side = Math.floor(side / 2)) levels++
  const level = Math.min(levels - 1, Math.max(0, Math.floor(Math.log2(1 / scale) + 1e-9)))
  const step = TILE * 2 ** level
  const shown = fitted * view.zoom
  /** First and last tile of one axis that can be seen. */
  const range = (axis: number) => {
    const middle = view.size[axis] / 2 - view.shift[axis] / shown
    const half = view.room[axis] / shown / 2
    const last = Math.ceil(view.size[axis] / step) - 1
    return [
      Math.max(0, Math.floor((middle - half) / step)),
      Math.min(last, Math.floor((middle + half) / step)),
    ]
  }
  const [x0, x1] = range(0)
  const [y0, y1] = range(1)
  const out: Tile[] = []
  for (let y = y0; y <= y1; y++)
    for (let x = x0; x <= x1; x++)
      out.push({
        level,
        x,
        y,
        left: x * step,
        top: y * step,
        width: Math.min(step, w - x * step),
        height: Math.min(step, h - y * step),
      })
  return out
}
