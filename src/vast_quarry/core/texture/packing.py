"""Packing charts into a square atlas by their bitmaps, largest first, lowest free place."""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from vast_quarry.core.texture.charts import Charts, basis, cut_to

Array = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass
class Atlas:
    """An unwrapped mesh.

    Attributes
    ----------
    uv : (W, 2)
        Texel coordinates (x right, y down, texel centres at integers) of each wedge.
    wedge_vertex : (W,) int
        Vertex of the mesh each wedge belongs to.
    faces : (M, 3) int
        Faces in terms of wedges, in the order of the mesh.
    size : int
        Texels a side.
    density : float
        Texels per world unit.
    """

    uv: Array
    wedge_vertex: Ints
    faces: Ints
    size: int
    density: float


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
def _place(used, cells, width, height, start):
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


def unwrap(
    vertices: Array, faces: Ints, charts: Charts, size: int, wanted: float, padding: int = 2, largest: int | None = None,
    tiles: int = 1,
) -> Atlas:  # fmt: skip
    """Lay charts out in an atlas; it always succeeds.

    Charts are made smaller until they fit. Where that would cost much, as with thousands of splinters that are mostly
    padding, the atlas becomes larger instead, up to ``largest``; then the padding goes; and in the end splinters share cells.

    Parameters
    ----------
    size : int
        Texels a side to begin with.
    wanted : float
        Texels per world unit that would be fine enough; less when the atlas is too small for it.
    padding : int
        Texels between charts on either side.
    largest : int, optional
        Most texels a side; ``size`` without it.
    tiles : int
        The atlas is to be cut into so many pictures along each side: no chart crosses from one to the next.
    """
    if tiles > 1:
        charts = cut_to(vertices, faces, charts, _PIECE * max(size, largest or size) / tiles / wanted)
    count = len(charts.direction)
    order = np.argsort(charts.chart, kind="stable")
    bounds = np.searchsorted(charts.chart[order], np.arange(count + 1))
    flat: list[Array] = []
    area = 0.0
    for c in range(count):
        mine = order[bounds[c] : bounds[c + 1]]
        right, up, _ = basis(int(charts.direction[c]))
        p = vertices[faces[mine]]
        q = np.stack([p @ right, -(p @ up)], -1)
        q -= q.reshape(-1, 2).min(0)
        flat.append(q)
        e1, e2 = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
        area += float(np.abs(e1[:, 0] * e2[:, 1] - e1[:, 1] * e2[:, 0]).sum() / 2)
    extent = np.array([q.reshape(-1, 2).max(0) for q in flat]).reshape(-1, 2)

    def tried(side: int, gap: int, density: float) -> tuple[Array, Ints] | None:
        """Where the charts lie in texels, and how they are turned; None where they do not fit."""
        cell = max(2, side // 1024)
        if not _may_fit(extent, density, side // tiles, cell, gap, tiles):
            return None
        shapes = [_shapes(q, density, cell, gap) for q in flat]
        for by in range(3 if count < 1000 else 1):
            packed = _pack(shapes, side // cell, -(-2 * gap // cell), by, tiles)
            if packed is not None:
                return packed[0] * cell, packed[1]
        return None

    too_fine: tuple[int, int, float] | None = None
    for side, gap, density in _trials(
        size, max(size, largest or size), padding, wanted, area, 0.965 if count < 1000 else 0.9
    ):
        found = tried(side, gap, density)
        if found is None:
            too_fine = side, gap, density
            continue
        for _ in range(NEARER if too_fine is not None and too_fine[:2] == (side, gap) else 0):
            assert too_fine is not None
            between = float(np.sqrt(density * too_fine[2]))
            better = tried(side, gap, between)
            if better is None:
                too_fine = side, gap, between
            else:
                found, density = better, between
        laid = [_turned(q, int(t)) for q, t in zip(flat, found[1])]
        return _as_atlas(vertices, faces, laid, found[0], order, bounds, side, density, gap)
    # more splinters than cells: each gets one, some of them the same
    side = max(size, largest or size)
    density = min(wanted, 1.0 / max(float(extent.max(initial=0.0)), 1e-300))
    at = np.arange(count) % (side * side)
    places = np.stack([at % side, at // side], 1).astype(float)
    return _as_atlas(vertices, faces, flat, places, order, bounds, side, density, 0)


#: charts are cut to pieces of this share of a picture's side, where an atlas is several pictures
_PIECE = 0.45

#: share of an atlas that charts fill at most
_DENSEST = 0.8

#: how often it is tried to come nearer to the finest that fits
NEARER = 3

#: an atlas of the same size is tried down to this share of the density it should have; then a larger one
_HALF = 0.55


def _trials(
    size: int, largest: int, padding: int, wanted: float, area: float, step: float
) -> Iterator[tuple[int, int, float]]:
    """Sizes, paddings and densities to try, best first."""
    side = size
    while True:
        best = min(wanted, float(side * np.sqrt(_DENSEST / max(area, 1e-300))))
        density = best
        while density > _HALF * best:
            yield side, padding, density
            density *= step
        if side * 2 > largest:
            break
        side *= 2
    for gap in (padding, 1, 0):
        for _ in range(8):
            yield side, gap, density
            density *= 0.65
        density = best * _HALF


def _may_fit(extent: Array, density: float, size: int, cell: int, padding: int, tiles: int = 1) -> bool:
    """Whether charts of an extent (C, 2) have enough cells in ``tiles`` squared pictures of a size, each as many as it is long."""
    cells = size // cell
    need = ((extent * density + 2 * padding) / cell).astype(np.int64).max(1) + 1
    return bool(need.max(initial=0) <= cells and need.sum() <= (tiles * cells) ** 2)


def _turned(q: Array, quarters: int) -> Array:
    """A flat chart (M, 3, 2) turned by so many quarters (not mirrored), its corner at the origin again."""
    for _ in range(quarters):
        q = np.stack([q[..., 1].max() - q[..., 1], q[..., 0]], -1)
    return q


def _bitmap(q: Array, density: float, cell: int, padding: int) -> NDArray[np.bool_]:
    """Cells that a flat chart touches."""
    t = (q * density + padding) / cell
    w, h = (t.reshape(-1, 2).max(0) + padding / cell).astype(int) + 1
    grid = np.zeros((h, w), bool)
    _mark(t[..., 0], t[..., 1], grid)
    return grid


#: bitmap of a chart, and its cells in the order in which they are tried
Shape = tuple[NDArray[np.bool_], Ints]


def _shapes(q: Array, density: float, cell: int, padding: int) -> list[Shape]:
    """A flat chart upright, and turned by quarters where that makes a difference."""
    grids = [_bitmap(q, density, cell, padding)]
    if grids[0].size > 9:
        grids += [_bitmap(_turned(q, k), density, cell, padding) for k in (1, 2, 3)]
    return [(g, _spread_cells(g)) for g in grids]


def _pack(shapes: list[list[Shape]], cells: int, apart: int, by: int = 0, tiles: int = 1) -> tuple[Array, Ints] | None:
    """Top left cell of every chart (C, 2: x, y) and by how many quarters it is turned, or None when they do not fit.

    Each is tried upright and turned, and put where it reaches less far down, ``apart`` cells from the others. ``by`` is what makes a
    chart come early: the size of its rectangle, its longer side, or its area.
    """
    upright = [ways[0][0] for ways in shapes]
    if any(max(g.shape) > cells for g in upright) or sum(int(g.sum()) for g in upright) > cells * cells:
        return None
    weight = np.array([(g.size, max(g.shape), int(g.sum()))[by] for g in upright])
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
    start, last = 0, None
    for c in np.argsort(-weight, kind="stable"):
        best: tuple[int, int, int] | None = None
        for way, (g, own) in enumerate(shapes[c]):
            if max(g.shape) > cells:
                continue
            begin = 0
            if g.size <= 9 and last is not None and last[0] * last[1] <= 9:
                # a chart no smaller than one that found no place before some spot finds none there either
                begin = start
            p = _place(used, own, g.shape[1], g.shape[0], begin)
            if p >= 0 and (best is None or p // cells + g.shape[0] < best[0]):
                best = p // cells + g.shape[0], p, way
        if best is None:
            return None
        _, p, way = best
        g, own = shapes[c][way]
        start, last = p, g.shape
        _keep_clear(used, own, p // cells, p % cells, apart)
        places[c] = p % cells, p // cells
        turned[c] = way
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


def _as_atlas(
    vertices: Array, faces: Ints, flat: list[Array], places: Array, order: Ints, bounds: Ints, size: int, density: float,
    padding: int,
) -> Atlas:  # fmt: skip
    """Wedges: a vertex once for each chart that uses it."""
    corner_uv = np.empty((len(faces), 3, 2))
    chart_of = np.empty(len(faces), np.int64)
    for c, q in enumerate(flat):
        mine = order[bounds[c] : bounds[c + 1]]
        corner_uv[mine] = q * density + padding + places[c] - 0.5
        chart_of[mine] = c
    key = faces * np.int64(len(flat)) + chart_of[:, None]
    _, first, inverse = np.unique(key.ravel(), return_index=True, return_inverse=True)
    uv = corner_uv.reshape(-1, 2)[first]
    return Atlas(uv, faces.ravel()[first], inverse.reshape(-1, 3).astype(np.int64), size, density)


@njit(error_model="numpy", cache=True)
def raster_faces(uv, faces, size, first=0, last=-1):
    """Face that covers each texel of some rows of an atlas (last - first, size) int32, -1 for none.

    A texel counts by its middle, grown by three quarters of a texel where no face covers its middle.
    """
    if last < 0:
        last = size
    out = np.full((last - first, size), -1, np.int32)
    for grow in range(2):
        margin = 0.0 if grow == 0 else 0.75
        for f in range(faces.shape[0]):
            ax, ay = uv[faces[f, 0], 0], uv[faces[f, 0], 1]
            bx, by = uv[faces[f, 1], 0], uv[faces[f, 1], 1]
            cx, cy = uv[faces[f, 2], 0], uv[faces[f, 2], 1]
            det = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
            if abs(det) < 1e-12:
                continue
            x0 = max(int(np.ceil(min(ax, bx, cx) - margin)), 0)
            x1 = min(int(np.floor(max(ax, bx, cx) + margin)), size - 1)
            y0 = max(int(np.ceil(min(ay, by, cy) - margin)), first)
            y1 = min(int(np.floor(max(ay, by, cy) + margin)), last - 1)
            if y0 > y1:
                continue
            a = (abs(cy - ay) + abs(cx - ax)) * margin / abs(det)
            b = (abs(by - ay) + abs(bx - ax)) * margin / abs(det)
            for j in range(y0, y1 + 1):
                for i in range(x0, x1 + 1):
                    if out[j - first, i] >= 0:
                        continue
                    u = ((i - ax) * (cy - ay) - (cx - ax) * (j - ay)) / det
                    v = ((bx - ax) * (j - ay) - (i - ax) * (by - ay)) / det
                    if u >= -a and v >= -b and u + v <= 1 + a + b:
                        out[j - first, i] = f
    return out
