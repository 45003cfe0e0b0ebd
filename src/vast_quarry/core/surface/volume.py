"""A surface out of the depth maps themselves: signed distances in a narrow band about the cloud, and where they change sign.

Each photo says of a place how far before or behind what it sees the place lies, and of all that lies before that it is empty. Near the
surface the distances of all photos are averaged; where more of them look through a place than see something there, it is empty: so a
fringe that one photo imagined goes, and what is thin and was seen from both sides stays. What no photo saw stays open.

Work goes by tiles of a lattice that is the same for all: their parts fit exactly, in any order and any number of processes.

References
----------
Curless, B., Levoy, M. (1996). A volumetric method for building complex models from range images. SIGGRAPH.
Bylow, E., Sturm, J., Kerl, C., Kahl, F., Cremers, D. (2013). Real-time camera tracking and 3D reconstruction using signed distance
functions. RSS (weights that fall off behind the surface).
Lewiner, T., Lopes, H., Vieira, A., Tavares, G. (2003). Efficient implementation of marching cubes' cases with topological
guarantees. J. Graphics Tools 8(2).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray
from scipy import ndimage
from skimage.measure import marching_cubes

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense.fusion import MOST_COST, on_one_surface
from vast_quarry.core.dense.patchmatch import DepthMap

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
Tile = tuple[int, int, int]

#: cells along a side of a tile
SIDE = 40
#: the band: so many cells before the surface distances count, and so many behind it
BEFORE, BEHIND = 3.0, 1.75
#: photos that must see something near a place; flattest view that counts (cosine)
FEWEST, FLATTEST = 2, 0.17
#: a place is empty where so much looks through it, and more than this share of what lies before it for others
LOOKED, THROUGH = 0.5, 0.5
#: smallest distance that is kept, in parts of the band: no corner lies on the surface itself, so that every crossing is on an edge
LEAST = 1e-3


@dataclass(frozen=True)
class Lattice:
    """Places ``origin + cell * (i, j, k)``; tile (a, b, c) holds those from ``SIDE`` times it on, with one more at each end."""

    origin: tuple[float, float, float]
    cell: float

    def first(self, tile: Tile) -> Array:
        """The lowest place (3,) of a tile."""
        return np.asarray(self.origin) + self.cell * SIDE * np.asarray(tile, float)


def tiles_of(points: Array, lattice: Lattice) -> list[Tile]:
    """Tiles that hold points (N, 3), or have some within the band about them; near ones follow each other."""
    at = (points - lattice.origin) / lattice.cell / SIDE
    reach = (BEFORE + 1) / SIDE
    low = np.floor(at.min(0) - reach).astype(np.int64)
    size = (np.floor(at.max(0) + reach).astype(np.int64) - low + 1).tolist()
    keys = []
    for corner in np.ndindex(2, 2, 2):
        tile = np.floor(at + reach * (2 * np.array(corner) - 1)).astype(np.int64) - low
        keys.append(np.unique(np.ravel_multi_index(tuple(tile.T), size)))
    found = np.stack(np.unravel_index(np.unique(np.concatenate(keys)), size), 1) + low
    return [(a, b, c) for a, b, c in found.tolist()]


class Places:
    """Points (N, 3) that are asked for by tiles."""

    def __init__(self, points: Array, lattice: Lattice) -> None:
        tile = np.floor((points - lattice.origin) / lattice.cell / SIDE).astype(np.int64)
        self._low = tile.min(0) - 1 if len(tile) else np.zeros(3, np.int64)
        self._size = (tile.max(0) - self._low + 2).tolist() if len(tile) else [1, 1, 1]
        key = np.ravel_multi_index(tuple((tile - self._low).T), self._size)
        order = np.argsort(key, kind="stable")
        self._points, self._key = points[order], key[order]

    def about(self, tile: Tile) -> Array:
        """Those in a tile and in the 26 about it."""
        found = []
        for step in np.ndindex(3, 3, 3):
            at = np.array(tile) + step - 1 - self._low
            if (at >= 0).all() and (at < self._size).all():
                one = int(np.ravel_multi_index(tuple(at), self._size))
                first, last = np.searchsorted(self._key, (one, one + 1))
                found.append(self._points[first:last])
        return np.concatenate(found) if found else self._points[:0]


class Band:
    """Sums over photos on one tile of the lattice.

    Parameters
    ----------
    points : (N, 3)
        The cloud; the band is what lies near it.
    """

    def __init__(self, tile: Tile, lattice: Lattice, points: Array) -> None:
        self.first, self.cell = lattice.first(tile), lattice.cell
        n = SIDE + 1
        wide = int(np.ceil(BEFORE)) + 1
        at = np.floor((points - self.first) / self.cell + 0.5).astype(np.int64) + wide
        at = at[((at >= 0) & (at < n + 2 * wide)).all(1)]
        some = np.zeros((n + 2 * wide,) * 3, bool)
        some[at[:, 0], at[:, 1], at[:, 2]] = True
        near = np.zeros((n, n, n), bool)
        # of what lies beside the tile no more is looked at than reaches into it
        _grow(np.argwhere(some) - wide, BEFORE + 0.5, near)
        self.index = np.ascontiguousarray(np.argwhere(near).astype(np.int32))
        count = len(self.index)
        self.total, self.weight = np.zeros(count, np.float32), np.zeros(count, np.float32)
        self.through, self.hidden = np.zeros(count, np.float32), np.zeros(count, np.float32)
        self.photos = np.zeros(count, np.int16)

    def add(self, depth: DepthMap, camera: Camera, rotation: Array, center: Array) -> None:
        """Add what a photo says; ``depth`` holds only what is believed (:func:`believed`)."""
        K = np.array([camera.fx, camera.fy, camera.cx, camera.cy])
        _add(
            self.index, self.first, self.cell, depth.depth, depth.normal, depth.cost, K, rotation, center, self.total, self.weight,
            self.through, self.hidden, self.photos,
        )  # fmt: skip

    def mesh(self) -> tuple[Array, Faces]:
        """The part of the surface within the tile: vertices (N, 3) in cells from its lowest place, faces (M, 3)."""
        near = (self.photos >= FEWEST) & (self.weight > self.through)
        # what one photo sees through, in error, lies behind a surface for all others
        empty = (self.through > self.weight) & (self.through >= LOOKED) & (self.through > THROUGH * self.hidden)
        value = np.where(near, self.total / np.maximum(self.weight, 1e-20), 1.0)
        value = np.where(np.abs(value) < LEAST, np.where(value < 0, -LEAST, LEAST), value.clip(-1, 1))
        if not (near & (value < 0)).any():
            return np.zeros((0, 3)), np.zeros((0, 3), np.int64)
        n = SIDE + 1
        grid, valid = np.ones((n, n, n), np.float32), np.zeros((n, n, n), bool)
        at = tuple(self.index.T)
        grid[at], valid[at] = value, near | empty
        # a cell counts where all of its corners are known: skimage asks for the mask at its lowest corner's far end
        whole = ndimage.minimum_filter(valid, size=2, origin=0)
        try:
            v, f, _, _ = marching_cubes(grid, 0.0, mask=whole, gradient_direction="descent", allow_degenerate=False)
        except (ValueError, RuntimeError):  # no cell whose corners are all known is crossed
            return np.zeros((0, 3)), np.zeros((0, 3), np.int64)
        return v.astype(float), f.astype(np.int64)


def believed(depth: DepthMap, camera: Camera, rotation: Array, center: Array) -> DepthMap:
    """A depth map with nothing where it does not lie on one surface with what is about it."""
    on, _ = on_one_surface(depth, (camera, rotation, center))
    return DepthMap(
        np.where(on & (depth.cost <= MOST_COST), depth.depth, 0).astype(np.float32), depth.normal, depth.cost
    )


@njit(error_model="numpy", cache=True)
def _grow(at, reach, near):
    """Mark what lies within ``reach`` cells of places (N, 3) of a grid, which may lie beside it."""
    n = near.shape[0]
    wide = int(reach)
    for p in range(at.shape[0]):
        for i in range(-wide, wide + 1):
            x = at[p, 0] + i
            if x < 0 or x >= n:
                continue
            for j in range(-wide, wide + 1):
                y = at[p, 1] + j
                if y < 0 or y >= n:
                    continue
                for k in range(-wide, wide + 1):
                    z = at[p, 2] + k
                    if z >= 0 and z < n and i * i + j * j + k * k <= reach * reach:
                        near[x, y, z] = True


@njit(error_model="numpy", cache=True, parallel=True)
def _add(index, first, cell, depth, normal, cost, K, R, C, total, weight, through, hidden, photos):
    h, w = depth.shape
    before, behind = BEFORE * cell, BEHIND * cell
    for n in prange(index.shape[0]):
        x = first[0] + cell * index[n, 0]
        y = first[1] + cell * index[n, 1]
        z = first[2] + cell * index[n, 2]
        a, b, c = x - C[0], y - C[1], z - C[2]
        far = R[2, 0] * a + R[2, 1] * b + R[2, 2] * c
        if far <= 0:
            continue
        u = (R[0, 0] * a + R[0, 1] * b + R[0, 2] * c) / far * K[0] + K[2]
        v = (R[1, 0] * a + R[1, 1] * b + R[1, 2] * c) / far * K[1] + K[3]
        i = np.int64(np.round(u))
        j = np.int64(np.round(v))
        if i < 0 or j < 0 or i >= w or j >= h:
            continue
        d = np.float64(depth[j, i])
        if d <= 0:
            continue
        # the pixel's point, and how far before its plane the place lies
        p = (i - K[2]) / K[0] * d
        q = (j - K[3]) / K[1] * d
        off = 0.0
        facing = 0.0
        away = 0.0
        for k in range(3):
            at = R[0, k] * p + R[1, k] * q + R[2, k] * d + C[k]
            place = x if k == 0 else (y if k == 1 else z)
            off += normal[j, i, k] * (place - at)
            facing += normal[j, i, k] * (C[k] - at)
            away += (C[k] - at) ** 2
        cosine = facing / np.sqrt(away)
        if cosine < FLATTEST:
            continue
        say = cosine * (1.0 - min(np.float64(cost[j, i]), 0.95))
        ahead = d - far
        if ahead > before / cosine:
            through[n] += say
            continue
        if ahead < -behind / cosine or off < -behind:
            hidden[n] += say
            continue
        if off > 0:
            total[n] += say * min(off / before, 1.0)
            weight[n] += say
        else:
            # behind the surface a photo says less and less: another side may be there
            less = say * min(1.0, 2.0 * (1.0 + off / behind))
            total[n] += less * off / before
            weight[n] += less
        photos[n] += 1


def joined(parts: list[tuple[Tile, Array, Faces]], lattice: Lattice) -> tuple[Array, Faces]:
    """Parts of a surface, in cells from the lowest place of their tiles, as one: vertices on one edge of the lattice are one."""
    if not any(len(f) for _, _, f in parts):
        return np.zeros((0, 3)), np.zeros((0, 3), np.int64)
    v = np.concatenate([p + np.asarray(t, float) * SIDE for t, p, _ in parts])
    start = np.cumsum([0, *(len(p) for _, p, _ in parts)])
    f = np.concatenate([faces + s for (_, _, faces), s in zip(parts, start)])
    low = np.floor(v + LEAST / 4)
    part = v - low
    inner = part > LEAST / 4
    # what lies on one edge only has one coordinate between two places; marching cubes also makes vertices within a cell, which are nobody else's
    on_edge = inner.sum(1) <= 1
    axis = np.where(on_edge, inner.argmax(1), 3)
    key = np.concatenate([low, axis[:, None], np.where(on_edge, -1, np.arange(len(v)))[:, None]], 1).astype(np.int64)
    _, first, same = np.unique(key, axis=0, return_index=True, return_inverse=True)
    f = same.reshape(-1)[f]
    f = f[(f[:, 0] != f[:, 1]) & (f[:, 1] != f[:, 2]) & (f[:, 2] != f[:, 0])]
    return np.asarray(lattice.origin) + lattice.cell * v[first], f
