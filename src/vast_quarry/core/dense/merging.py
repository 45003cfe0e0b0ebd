"""Points that several photos give of the same spot become one, by weight.

While fusing a photo gives way only to those that it shares most with; where photos stand close, others give the same spot again. So
points of different photos that fall into one cell, smaller than a pixel on the surface, become their mean, each counting by the square
of what is expected of it. Points of one photo alone stay as they are: they lie a pixel apart.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.dense.fusion import Cloud, merged
from vast_quarry.core.surface.mesh import normalised

#: side of a cell in pixels on the surface, at most; and of two sizes of cells in a row
CELL, LEVEL = 0.8, 2.0**0.5
#: points that are taken in together, at least
BATCH = 1_000_000
#: bits of each coordinate of a cell
BITS = 20


def _keys(points: NDArray[np.float64], gsd: NDArray[np.float32]) -> NDArray[np.int64] | None:
    """A number for the cell of each point (N, 3); None where cells are too many to be numbered."""
    level = np.floor(np.log(np.maximum(gsd, 1e-12)) / np.log(LEVEL)).astype(np.int64)
    cell = CELL * LEVEL ** level.astype(float)
    place = np.floor(points / cell[:, None]).astype(np.int64)
    if np.abs(place).max(initial=0) >= 1 << (BITS - 1):
        return None
    place += 1 << (BITS - 1)
    # neighbouring sizes of cells must not be taken for one another; those sixteen apart never lie at one place
    return ((level & 15) << (3 * BITS)) | (place[:, 0] << (2 * BITS)) | (place[:, 1] << BITS) | place[:, 2]


def by_weight(cloud: Cloud, weight: NDArray[np.float64]) -> tuple[Cloud, NDArray[np.float64]]:
    """The same cloud with points of different photos in one cell as their mean; and what each then weighs."""
    key = _keys(cloud.points, cloud.gsd) if len(cloud.points) else None
    if key is None:
        return cloud, weight
    order = np.argsort(key, kind="stable")
    key = key[order]
    start = np.flatnonzero(np.concatenate([[True], key[1:] != key[:-1]]))
    photo = cloud.photo[order]
    mixed = np.minimum.reduceat(photo, start) != np.maximum.reduceat(photo, start)
    if not mixed.any():
        return cloud, weight
    count = np.diff(np.append(start, len(key)))
    inside = np.repeat(mixed, count)
    alone, together = np.sort(order[~inside]), order[inside]
    first = np.concatenate([[0], np.cumsum(count[mixed])[:-1]])
    w = weight[together]
    whole = np.add.reduceat(w, first)

    def mean(values: NDArray) -> NDArray[np.float64]:
        """Of the rows (K, d) or values (K,) of each cell."""
        return (np.add.reduceat((values[together].T * w).T, first).T / whole).T

    # who counts most is named
    lead = np.lexsort((-w, np.repeat(np.arange(len(first)), count[mixed])))[first]
    found = Cloud(
        points=mean(cloud.points), normals=normalised(mean(cloud.normals)).astype(np.float32),
        colors=(mean(cloud.colors) + 0.5).astype(np.uint8), views=np.maximum.reduceat(cloud.views[together], first),
        gsd=mean(cloud.gsd).astype(np.float32), sigma=mean(cloud.sigma).astype(np.float32), photo=cloud.photo[together][lead],
        filled=np.logical_and.reduceat(cloud.filled[together], first),
    )  # fmt: skip
    part = np.zeros(len(weight), bool)
    part[alone] = True
    return merged([cloud.only(part), found]), np.concatenate([weight[part], whole])


def merged_by_weight(clouds: Iterable[Cloud]) -> Cloud:
    """Clouds of single photos as one, taken in by and by: memory goes by what is left."""
    sofar: tuple[Cloud, NDArray[np.float64]] | None = None
    waiting: list[Cloud] = []

    def take_in() -> tuple[Cloud, NDArray[np.float64]]:
        new = merged(waiting)
        sigma = np.where(np.isfinite(new.sigma) & (new.sigma > 0), new.sigma, new.gsd).astype(float)
        weight = 1.0 / np.maximum(sigma, 1e-12) ** 2
        waiting.clear()
        if sofar is None:
            return by_weight(new, weight)
        return by_weight(merged([sofar[0], new]), np.concatenate([sofar[1], weight]))

    for cloud in clouds:
        waiting.append(cloud)
        if sum(len(c.points) for c in waiting) >= max(BATCH, len(sofar[0].points) if sofar else 0):
            sofar = take_in()
    if waiting:
        sofar = take_in()
    return sofar[0] if sofar is not None else merged([])
