import type { CameraOut } from '@/api/client'

/** Columns of the table of photos. */
export type Column = 'photo' | 'state' | 'ties' | 'error' | 'sigma_percent' | 'off_plan_percent' | 'focal'

/** Photos in the order of a column, down or up; those without a value come last either way. */
export function sorted(cameras: CameraOut[], by: Column, down: boolean): CameraOut[] {
  const sign = down ? -1 : 1
  return [...cameras].sort((a, b) => {
    const [x, y] = [a[by] ?? null, b[by] ?? null]
    if (x === null || y === null) return Number(x === null) - Number(y === null) || a.row - b.row
    const order =
      typeof x === 'string' ? x.localeCompare(String(y), undefined, { numeric: true }) : x - Number(y)
    return sign * order || a.row - b.row
  })
}
