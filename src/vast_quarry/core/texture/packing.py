"""An atlas of the charts of a mesh: as large as it has to be and as fine as they fit, and which face each texel shows."""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from vast_quarry.core.texture.charts import Charts, basis, cut_to
from vast_quarry.core.texture.nesting import pack, shapes_of, turned_flat

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


@dataclass
class _Flat:
    """Charts flattened, each turned so that it fills its rectangle best.

    Attributes
    ----------
    charts : list of (K, 3, 2)
        Corners of the faces of each, in world units, from its top left corner.
    order, bounds : (M,) int, (C + 1,) int
        Faces by their charts, and where those of each begin.
    extent : (C, 2)
        Width and height of each.
    area : float
        Of all together.
    """

    charts: list[Array]
    order: Ints
    bounds: Ints
    extent: Array
    area: float


def _flattened(vertices: Array, faces: Ints, charts: Charts) -> _Flat:
    count = len(charts.direction)
    order = np.argsort(charts.chart, kind="stable")
    bounds = np.searchsorted(charts.chart[order], np.arange(count + 1))
    flat: list[Array] = []
    area = 0.0
    for c in range(count):
        mine = order[bounds[c] : bounds[c + 1]]
        right, up, _ = basis(int(charts.direction[c]))
        p = vertices[faces[mine]]
        q = _aligned(np.stack([p @ right, -(p @ up)], -1))
        flat.append(q)
        e1, e2 = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
        area += float(np.abs(e1[:, 0] * e2[:, 1] - e1[:, 1] * e2[:, 0]).sum() / 2)
    extent = np.array([q.reshape(-1, 2).max(0) for q in flat]).reshape(-1, 2)
    return _Flat(flat, order, bounds, extent, area)


def _aligned(q: Array) -> Array:
    """A flat chart (M, 3, 2) turned into the least rectangle that holds it, with its corner at the origin."""
    points = q.reshape(-1, 2)
    low, size = points.min(0), max(float(np.ptp(points, axis=0).max(initial=0)), 1e-300)
    # in single precision, so measured from the chart itself
    angle = np.radians(cv2.minAreaRect(((points - low) / size).astype(np.float32))[2])
    cosine, sine = np.cos(angle), np.sin(angle)
    q = (q - low) @ np.array([[cosine, -sine], [sine, cosine]])
    return np.asarray(q - q.reshape(-1, 2).min(0))


@dataclass
class _Laid:
    """Where charts lie: their top left corners (C, 2) in texels, by how many quarters each is turned, and the atlas they lie in."""

    places: Array
    quarters: Ints
    side: int
    gap: int
    density: float


def unwrap(
    vertices: Array, faces: Ints, charts: Charts, size: int, wanted: float, padding: int = 2, largest: int | None = None,
    tiles: int = 1,
) -> Atlas:  # fmt: skip
    """Lay charts out in an atlas; it always succeeds.

    Charts are made smaller until they fit. Where that would cost much, as with thousands of splinters that are mostly
    padding, the atlas becomes larger instead, up to ``largest``; then the padding goes; and in the end splinters share cells.
    Where a few large charts leave much of the atlas empty, they are cut.

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
    largest = max(size, largest or size)
    if tiles > 1:
        charts = cut_to(vertices, faces, charts, _PIECE * largest / tiles / wanted)
    flat = _flattened(vertices, faces, charts)
    laid = _laid_out(flat, size, largest, wanted, padding, tiles)
    if laid is None:
        # more splinters than cells: each gets one, some of them the same
        density = min(wanted, 1.0 / max(float(flat.extent.max(initial=0.0)), 1e-300))
        count = len(flat.charts)
        at = np.arange(count) % (largest * largest)
        places = np.stack([at % largest, at // largest], 1).astype(float)
        laid = _Laid(places, np.zeros(count, np.int64), largest, 0, density)
    elif tiles == 1 and laid.density < wanted and flat.area * (laid.density / laid.side) ** 2 < WELL_FILLED:
        pieces = cut_to(vertices, faces, charts, _LARGE * laid.side / laid.density)
        if len(pieces.direction) > len(charts.direction):
            cut = _flattened(vertices, faces, pieces)
            # what fits goes up and down a little with density: from somewhat coarser on
            finer = _densest(cut, laid.side, laid.gap, 0.97 * laid.density, _most(cut, laid.side, wanted), 1)
            if finer is not None and finer.density > WORTH_CUTTING * laid.density:
                flat, laid = cut, finer
    turned = [turned_flat(q, int(t)) for q, t in zip(flat.charts, laid.quarters)]
    return _as_atlas(vertices, faces, turned, flat, laid)


#: charts are cut to pieces of this share of a picture's side, where an atlas is several pictures; and where one is filled badly
_PIECE, _LARGE = 0.45, 0.3
#: share of an atlas from which it is filled well, and by what factor it has to become finer for charts to be cut
WELL_FILLED, WORTH_CUTTING = 0.75, 1.01
#: share of an atlas that charts fill at most
_DENSEST = 0.88
#: how often it is tried to come nearer to the finest that fits
NEARER = 5
#: an atlas of the same size is tried down to this share of the density it should have; then a larger one
_HALF = 0.55
#: texels of a cell at least, and cells along a side at most
_LEAST, _CELLS = 2, 1024
#: charts from which they are tried in one order alone
MANY = 4000


def _most(flat: _Flat, side: int, wanted: float) -> float:
    """Texels per world unit that are wanted, or that an atlas of a size holds at the very most."""
    return min(wanted, float(side * np.sqrt(_DENSEST / max(flat.area, 1e-300))))


def _laid_out(flat: _Flat, size: int, largest: int, wanted: float, padding: int, tiles: int) -> _Laid | None:
    """Charts as fine as they fit: at first larger atlases are tried, then smaller charts, then less padding; None where nothing helps."""
    side = size
    while True:
        best = _most(flat, side, wanted)
        found = _densest(flat, side, padding, _HALF * best, best, tiles)
        if found is not None:
            return found
        if side * 2 > largest:
            break
        side *= 2
    for gap in (padding, 1, 0):
        density = _HALF * best
        for k in range(9):
            found = _at_density(flat, side, gap, density, tiles)
            if found is not None:
                return _nearer(flat, found, density / 0.65, tiles) if k else found
            density *= 0.65
    return None


def _densest(flat: _Flat, side: int, gap: int, least: float, most: float, tiles: int) -> _Laid | None:
    """Charts as fine as they fit in an atlas of a size, between two densities; None where even the lesser is too fine."""
    found = _at_density(flat, side, gap, most, tiles) if most >= least else None
    if found is not None:
        return found
    found = _at_density(flat, side, gap, least, tiles)
    return None if found is None else _nearer(flat, found, most, tiles)


def _nearer(flat: _Flat, found: _Laid, most: float, tiles: int) -> _Laid:
    """Charts as fine as they fit between how they were laid out and a density that is too fine."""
    for _ in range(NEARER):
        between = float(np.sqrt(found.density * most))
        better = _at_density(flat, found.side, found.gap, between, tiles)
        if better is None:
            most = between
        else:
            found = better
    return found


def _at_density(flat: _Flat, side: int, gap: int, density: float, tiles: int) -> _Laid | None:
    """Charts laid out with so many texels per world unit; None where they do not fit."""
    cell = max(_LEAST, side // _CELLS)
    if not _may_fit(flat.extent, density, side // tiles, cell, gap, tiles):
        return None
    shapes = [shapes_of(q, e, density, cell, gap) for q, e in zip(flat.charts, flat.extent)]
    for by_area in (True, False) if len(shapes) < MANY else (True,):
        packed = pack(shapes, side // cell, -(-2 * gap // cell), by_area, tiles)
        if packed is not None:
            return _Laid(packed[0] * cell, packed[1], side, gap, density)
    return None


def _may_fit(extent: Array, density: float, size: int, cell: int, padding: int, tiles: int = 1) -> bool:
    """Whether charts of an extent (C, 2) have enough cells in ``tiles`` squared pictures of a size, each as many as it is long."""
    cells = size // cell
    need = ((extent * density + 2 * padding) / cell).astype(np.int64).max(1) + 1
    return bool(need.max(initial=0) <= cells and need.sum() <= (tiles * cells) ** 2)


def _as_atlas(vertices: Array, faces: Ints, turned: list[Array], flat: _Flat, laid: _Laid) -> Atlas:
    """Wedges: a vertex once for each chart that uses it."""
    corner_uv = np.empty((len(faces), 3, 2))
    chart_of = np.empty(len(faces), np.int64)
    for c, q in enumerate(turned):
        mine = flat.order[flat.bounds[c] : flat.bounds[c + 1]]
        corner_uv[mine] = q * laid.density + laid.gap + laid.places[c] - 0.5
        chart_of[mine] = c
    key = faces * np.int64(len(turned)) + chart_of[:, None]
    _, first, inverse = np.unique(key.ravel(), return_index=True, return_inverse=True)
    uv = corner_uv.reshape(-1, 2)[first]
    return Atlas(uv, faces.ravel()[first], inverse.reshape(-1, 3).astype(np.int64), laid.side, laid.density)


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
