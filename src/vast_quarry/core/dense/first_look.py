"""A cloud for a first look: the points that the alignment knows already, evened out, each with the way it faces.

References
----------
Hoppe, H., DeRose, T., Duchamp, T., McDonald, J., Stuetzle, W. (1992). Surface reconstruction from unorganized points. SIGGRAPH (planes
through neighbours; here the photos that see a point tell which side is outside).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.errors import PlainError
from vast_quarry.core.surface.mesh import normalised

Array = NDArray[np.float64]

#: neighbours whose plane a point lies in; fewest points
NEIGHBOURS, FEWEST = 10, 200


def first_cloud(
    points: Array,
    colors: NDArray[np.uint8],
    photos: list[NDArray[np.int64]],
    centers: Array,
    focal: Array,
    sigma: NDArray,
) -> Cloud:
    """Sparse points (P, 3) as a cloud to build on.

    Parameters
    ----------
    points, colors (P, 3), sigma (P,)
        In world units.
    photos : list of (k,) int
        Which photos see each point.
    centers (n, 3), focal (n,)
        Of the photos, in world units and pixels.

    Raises
    ------
    PlainError
        When there are too few.
    """  # fmt: skip
    if len(points) < FEWEST:
        raise PlainError(
            "The alignment knows too few places for a first look.", "Make Points out of the depth of the photos."
        )
    count = np.array([len(p) for p in photos])
    of = np.repeat(np.arange(len(points)), count)
    seen = np.concatenate(photos)
    away = centers[seen] - points[of]
    far = np.linalg.norm(away, axis=1)
    to: Array = np.stack([np.bincount(of, weights=away[:, k] / far, minlength=len(points)) for k in range(3)], 1)
    gsd = np.bincount(of, weights=far / focal[seen], minlength=len(points)) / count
    cell = float(np.median(cKDTree(points).query(points, k=min(9, len(points)))[0][:, -1]))
    return Cloud(**_evened(points, normalised(to), colors, count, gsd, sigma, cell))


def _evened(
    points: Array, to: Array, colors: NDArray, count: NDArray, gsd: Array, sigma: NDArray, cell: float
) -> dict[str, NDArray]:
    """The means of cells: features crowd where there is much to see, and a skin is drawn as finely as points lie."""
    key = np.floor((points - points.min(0)) / max(cell, 1e-12)).astype(np.int64)
    _, of, many = np.unique(key, axis=0, return_inverse=True, return_counts=True)
    of = of.reshape(-1)

    def mean(values: NDArray) -> Array:
        """Of the rows (P, d) of each cell."""
        sums = [np.bincount(of, v, minlength=len(many)) for v in values.reshape(len(values), -1).T]
        return np.stack(sums, 1) / many[:, None]

    middle, outward = mean(points), normalised(mean(to))
    _, near = cKDTree(middle).query(middle, k=min(NEIGHBOURS, len(middle)))
    off = middle[near] - middle[near].mean(1, keepdims=True)
    _, axes = np.linalg.eigh(np.einsum("nki,nkj->nij", off, off))
    normals = axes[:, :, 0]
    normals *= np.where((normals * outward).sum(1) < 0, -1.0, 1.0)[:, None]
    return {
        "points": middle, "normals": normals.astype(np.float32), "colors": mean(colors.astype(float)).round().astype(np.uint8),
        "views": mean(count.astype(float))[:, 0].round().astype(np.int32), "gsd": mean(gsd)[:, 0].astype(np.float32),
        "sigma": mean(sigma.astype(float))[:, 0].astype(np.float32),
    }  # fmt: skip
