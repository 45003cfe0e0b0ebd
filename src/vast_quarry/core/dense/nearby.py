"""Which points of a large cloud are worth drawing from where one looks: those in view, and no more of them than the screen shows.

Points are put in order once: along a curve that fills space (Morton 1966), cut into runs of the same length, at random within each.
So every run is a small piece of the subject, and any first part of it an even thinning. From a view, runs beside the screen are left
out, and of each other so large a part is taken that points come to lie about a pixel apart.

References
----------
Morton, G. M. (1966). A computer oriented geodetic data base and a new technique in file sequencing. IBM, Ottawa.
Gobbetti, E., Marton, F. (2004). Layered point clouds: a simple and efficient multiresolution structure for distributing and rendering
gigantic point-sampled models. Computers & Graphics 28(6).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
#: points of a run, and cells along a side of the curve's grid (a power of two)
RUN, GRID = 4096, 1 << 20


def _spread(v: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """Bits of numbers below 2^21, with two empty places after each."""
    for shift, mask in (
        (32, 0x1F00000000FFFF), (16, 0x1F0000FF0000FF), (8, 0x100F00F00F00F00F), (4, 0x10C30C30C30C30C3), (2, 0x1249249249249249),
    ):  # fmt: skip
        v = (v | v << np.uint64(shift)) & np.uint64(mask)
    return v


def along_curve(points: Array) -> NDArray[np.int64]:
    """Numbers of points (N, 3) in the order of Morton's curve through their box."""
    low, size = points.min(0), max(float(np.ptp(points, axis=0).max()), 1e-12)
    at = np.minimum((points - low) / size * GRID, GRID - 1).astype(np.uint64)
    key = _spread(at[:, 0]) | _spread(at[:, 1]) << np.uint64(1) | _spread(at[:, 2]) << np.uint64(2)
    return np.argsort(key, kind="stable")


@dataclass(frozen=True)
class Runs:
    """Boxes (R, 3) of runs of points, one after the other, and how many points there are."""

    low: Array
    high: Array
    count: int

    def parts(self, matrix: Array, height: float, spacing: float, budget: int) -> NDArray[np.int64]:
        """How many points of each run (R,) are worth drawing.

        Parameters
        ----------
        matrix : (4, 4)
            World to clip space, row by row.
        height : float
            Of the screen in pixels.
        spacing : float
            How far points lie apart in the world.
        budget : int
            Points in all.
        """
        held = np.full(len(self.low), RUN, np.int64)
        held[-1] = self.count - RUN * (len(held) - 1)
        corners = np.stack(
            [np.where([k & 1, k & 2, k & 4], self.high, self.low) for k in range(8)], axis=1
        )  # (R, 8, 3)
        x, y, w = np.moveaxis(corners @ matrix[[0, 1, 3], :3].T + matrix[[0, 1, 3], 3], -1, 0)
        beside = (x > w).all(1) | (x < -w).all(1) | (y > w).all(1) | (y < -w).all(1) | (w <= 1e-9).all(1)
        nearest = np.maximum(w.min(1), 1e-9)
        apart = spacing * float(np.linalg.norm(matrix[1, :3])) * height / 2 / nearest
        wanted = np.where(beside, 0.0, held * np.clip(apart**2, 0.0, 1.0))
        wanted *= min(1.0, budget / max(float(wanted.sum()), 1.0))
        return np.asarray(np.minimum(np.ceil(wanted), held), np.int64)


def in_runs(points: Array, seed: int = 0) -> tuple[NDArray[np.int64], Runs]:
    """Numbers of points (N, 3) run after run, at random within each; and the runs. At least one point."""
    order = along_curve(points)
    rng = np.random.default_rng(seed)
    starts = np.arange(0, len(order), RUN)
    for a in starts:
        rng.shuffle(order[a : a + RUN])
    placed = points[order]
    low, high = np.minimum.reduceat(placed, starts), np.maximum.reduceat(placed, starts)
    return order, Runs(low, high, len(order))


def first_of_runs(parts: NDArray[np.int64]) -> NDArray[np.int64]:
    """Places in the order of the first so many points of each run."""
    return np.concatenate([np.arange(n) + RUN * k for k, n in enumerate(parts.tolist())] + [np.zeros(0, np.int64)])
