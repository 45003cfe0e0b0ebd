"""Charts laid beside each other by their bitmaps: largest first, each turned as it lies lowest, in the first place that is free.

References
----------
Baker, B., Coffman, E., Rivest, R. (1980). Orthogonal packings in two dimensions. SIAM J. Computing 9(4) (the lowest place on the left).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

Array = NDArray[np.float64]
Ints = NDArray[np.int64]


@njit(error_model="numpy", cache=True)
def _mark(x, y, grid):
    """Mark the cells that triangles touch; corners (M, 3) in cells."""
    h, w = grid.shape
    for f in range(x.shape[0]):
        x0 = max(int(np.floor(min(x[f, 0], x[f, 1], x[f, 2]))), 0)
        x1 = min(int(np.floor(max(x[f, 0], x[f, 1], x[f, 2]))), w - 1)
        y0 = max(int(np.floor(min(y[f, 0], y[f, 1], y[f, 2]))), 0)
        y1 = min(int(np.floor(max(y[f, 0], y[f, 1], y[f, 2]))), h - 1)
        det = (x[f, 1] - x[f, 0]) * (y[f, 2] - y[f, 0]) - (x[f, 2] - x[f, 0]) * (y[f, 1] - y[f, 0])
        if (x1 - x0 <= 1 and y1 - y0 <= 1) or abs(det) < 1e-9:
            for j in range(y0, y1 + 1):
                for i in range(x0, x1 + 1):
                    grid[j, i] = True
            continue
        for j in range(y0, y1 + 1):
            for i in range(x0, x1 + 1):
                if grid[j, i]:
                    continue
                # the middle of the cell within the triangle grown by a cell
                u = ((i + 0.5 - x[f, 0]) * (y[f, 2] - y[f, 0]) - (x[f, 2] - x[f, 0]) * (j + 0.5 - y[f, 0])) / det
                v = ((x[f, 1] - x[f, 0]) * (j + 0.5 - y[f, 0]) - (i + 0.5 - x[f, 0]) * (y[f, 1] - y[f, 0])) / det
                a = (abs(y[f, 2] - y[f, 0]) + abs(x[f, 2] - x[f, 0])) * 0.5 / abs(det)
                b = (abs(y[f, 1] - y[f, 0]) + abs(x[f, 1] - x[f, 0])) * 0.5 / abs(det)
                if u >= -a and v >= -b and u + v <= 1 + a + b:
                    grid[j, i] = True


@njit(error_model="numpy", cache=True)
def _place(used, cells, height, width, start):
    """First place (row by row from ``start``) where none of the cells (K, 2: y, x) is used; -1 when there is none.

    ``used`` holds for each cell how many in a row from it to the right are used: so much of the row can be passed over.
    """
    rows, columns = used.shape
    p = start
    while p < (rows - height + 1) * columns:
        y = p // columns
        x = p - y * columns
        if x + width > columns:
            p = (y + 1) * columns
            continue
        over = 0
        for k in range(cells.shape[0]):
            over = used[y + cells[k, 0], x + cells[k, 1]]
            if over:
                break
        if not over:
            return p
        p += over
    return -1


def _spread_cells(grid: NDArray[np.bool_]) -> Ints:
    """Cells of a bitmap in an order that meets a collision soon: leaping over it by the golden section."""
    cells = np.argwhere(grid)
    step = int(len(cells) * 0.618) | 1
    while np.gcd(step, len(cells)) > 1:
        step += 2
    return np.ascontiguousarray(cells[np.arange(len(cells)) * step % len(cells)])


def turned_flat(q: Array, quarters: int) -> Array:
    """A flat chart (M, 3, 2) turned by so many quarters (not mirrored), its corner at the origin again."""
    for _ in range(quarters):
        q = np.stack([q[..., 1].max() - q[..., 1], q[..., 0]], -1)
    return q


def _bitmap(q: Array, extent: Array, density: float, cell: int, padding: int) -> NDArray[np.bool_]:
    """Cells that a flat chart touches."""
    t = q * (density / cell) + padding / cell
    w, h = ((extent * density + 2 * padding) / cell).astype(int) + 1
    grid = np.zeros((h, w), bool)
    _mark(t[..., 0], t[..., 1], grid)
    return grid


@dataclass(frozen=True)
class Shape:
    """A chart as it may lie.

    Attributes
    ----------
    height, width : int
        Cells of the rectangle that holds it.
    cells : (K, 2) int
        Those that it touches (y, x), in the order in which they are tried.
    middle : float
        How far down it lies, on the mean over what it touches.
    quarters : int
        By how many it is turned.
    shift : (2,)
        Cells (x, y) that the chart turned lies off the bitmap turned, whose far sides need not end with the chart.
    """

    height: int
    width: int
    cells: Ints
    middle: float
    quarters: int
    shift: tuple[float, float]


def shapes_of(q: Array, extent: Array, density: float, cell: int, padding: int) -> list[Shape]:
    """A flat chart (M, 3, 2), as wide and high as its ``extent``, upright, and turned by quarters where that makes a difference."""
    grid = _bitmap(q, extent, density, cell, padding)
    height, width = grid.shape
    # what is left of the last cells beyond the chart and its padding
    right, low = np.array([width, height]) - (extent * density + 2 * padding) / cell
    cells = _spread_cells(grid)
    down, across = cells.mean(0).tolist()
    ways = [Shape(height, width, cells, down, 0, (0.0, 0.0))]
    if grid.size > 9:
        y, x = cells.T
        turned = (
            (width, height, (x, height - 1 - y), across, (low, 0.0)),
            (height, width, (height - 1 - y, width - 1 - x), height - 1 - down, (right, low)),
            (width, height, (width - 1 - x, y), width - 1 - across, (0.0, right)),
        )
        for quarters, (high, wide, at, middle, shift) in enumerate(turned, 1):
            ways.append(Shape(high, wide, np.stack(at, 1), middle, quarters, shift))
    return ways


def pack(
    shapes: list[list[Shape]], cells: int, apart: int, by_area: bool = True, tiles: int = 1
) -> tuple[Array, Ints] | None:
    """Top left corner of every chart (C, 2: x, y) in cells and by how many quarters it is turned, or None when they do not fit.

    Each is tried upright and turned, and put where it reaches less far down, most of it and in all, ``apart`` cells from the others.
    Large ones come early: by what they cover, or by their rectangles.
    """
    upright = [ways[0] for ways in shapes]
    if any(max(s.height, s.width) > cells for s in upright) or sum(len(s.cells) for s in upright) > cells * cells:
        return None
    weight = np.array([len(s.cells) if by_area else s.height * s.width for s in upright])
    used = np.zeros((cells, cells), np.int32)
    for k in range(1, tiles):
        # what hangs together cannot cross lines of cells that are taken
        middle, all_of_it = k * cells // tiles, np.arange(cells)
        for line in (
            np.stack([all_of_it * 0 + middle, all_of_it], 1),
            np.stack([all_of_it, all_of_it * 0 + middle], 1),
        ):
            _keep_clear(used, line, 0, 0, apart + 1)
    places, turned = np.zeros((len(shapes), 2)), np.zeros(len(shapes), np.int64)
    start, last = 0, 1 << 60
    for c in np.argsort(-weight, kind="stable"):
        best: tuple[float, int, Shape] | None = None
        for way in shapes[c]:
            covers = way.height * way.width
            # a chart no smaller than one that found no place before some spot finds none there either
            p = _place(used, way.cells, way.height, way.width, start if max(covers, last) <= 9 else 0)
            # its lower rim alone would lay tall charts down beside holes that they fill
            low = 1.5 * (p // cells) + way.middle + 0.5 * way.height
            if p >= 0 and (best is None or low < best[0]):
                best = low, p, way
        if best is None:
            return None
        _, p, way = best
        start, last = p, way.height * way.width
        _keep_clear(used, way.cells, p // cells, p % cells, apart)
        places[c] = p % cells + way.shift[0], p // cells + way.shift[1]
        turned[c] = way.quarters
    return places, turned


@njit(error_model="numpy", cache=True)
def _keep_clear(used, cells, y, x, reach):
    """Mark what lies within ``reach`` cells of those (K, 2: y, x) of a chart that was put at a place."""
    rows, columns = used.shape
    first, last = rows, 0
    for k in range(cells.shape[0]):
        top, low = max(0, y + cells[k, 0] - reach), min(rows, y + cells[k, 0] + reach + 1)
        first, last = min(first, top), max(last, low)
        for j in range(top, low):
            for i in range(max(0, x + cells[k, 1] - reach), min(columns, x + cells[k, 1] + reach + 1)):
                used[j, i] = max(used[j, i], 1)
    for j in range(first, last):
        run = 0
        for i in range(columns - 1, -1, -1):
            run = run + 1 if used[j, i] else 0
            used[j, i] = run
