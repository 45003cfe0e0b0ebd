"""What of a cloud lies in front where a shape was drawn on the screen, so that a brush does not go through to the back.

The screen under the shape is cut into small squares, three times as wide as points lie apart there. Of each square the nearest
point is known, and what lies not much behind the nearest of it and those beside it is in front. The squares are kept with the shape: like
every other way of choosing it answers for each point by itself, and so for a finer cloud too.

References
----------
Pintus, R., Gobbetti, E., Agus, M. (2011). Real-time rendering of massive unstructured raw point clouds using
screen-space operators. VAST (visibility of points by those near them on the screen).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import base64
import binascii
import zlib
from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError

Array = NDArray[np.float64]
Chosen = NDArray[np.bool_]

#: side of squares in spacings of the points, most squares along a side, and by how many sides of a square at its distance a surface
#: may go back within it: steeper ones are let go at their far end
WIDE, MOST, STEEP = 3.0, 512, 4.0
#: farther than anything
NOTHING = np.float32(1e30)


@njit(error_model="numpy", cache=True, nogil=True)
def _placed(points, matrix, low, side, shape, column, row, depth):
    """Square and distance (clip w) of each point; column -1 where it has none."""
    for k in range(len(points)):
        x, y, z = points[k, 0], points[k, 1], points[k, 2]
        column[k] = -1
        w = matrix[3, 0] * x + matrix[3, 1] * y + matrix[3, 2] * z + matrix[3, 3]
        if w <= 1e-9:
            continue
        u = (matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2] * z + matrix[0, 3]) / w
        v = (matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2] * z + matrix[1, 3]) / w
        i = np.floor((u - low[0]) / side[0])
        j = np.floor((v - low[1]) / side[1])
        if not (i >= 0 and j >= 0 and i < shape[1] and j < shape[0]):
            continue
        column[k], row[k], depth[k] = np.int64(i), np.int64(j), w


@njit(error_model="numpy", cache=True, nogil=True)
def _nearest(column, row, depth, out):
    for k in range(len(column)):
        if column[k] >= 0 and depth[k] < out[row[k], column[k]]:
            out[row[k], column[k]] = depth[k]


@dataclass(frozen=True)
class Front:
    """Squares of a screen: a corner (2,) and sides (2,), and how far away (clip w) something may lie in each to be in front (H, W)."""

    low: tuple[float, float]
    side: tuple[float, float]
    limit: NDArray[np.float32]

    @classmethod
    def of(cls, points: Array, matrix: Array, spacing: float) -> Front:
        """The front of what a shape covers.

        Parameters
        ----------
        points : (N, 3)
            Points that the shape covers, in front and behind.
        matrix : (4, 4)
            World to clip space, row by row.
        spacing : float
            How far points lie apart.

        Raises
        ------
        PlainError
            When there are none.
        """
        if not len(points):
            raise PlainError("There is no point left there.", "Draw over points.")
        homogeneous = points @ matrix[[0, 1, 3], :3].T + matrix[[0, 1, 3], 3]
        w = np.maximum(homogeneous[:, 2], 1e-9)
        xy = homogeneous[:, :2] / w[:, None]
        low, span = xy.min(0), np.ptp(xy, axis=0)
        # what a spacing measures on the screen, at a middling distance
        reach = np.linalg.norm(matrix[:2, :3], axis=1)
        side = np.maximum(WIDE * spacing * reach / float(np.median(w)), np.maximum(span, 1e-9) / (MOST - 1))
        shape = tuple(int(n) for n in np.floor(span / side)[::-1].astype(int) + 1)
        nearest = np.full(shape, np.inf, np.float32)
        _nearest(*_places(points, matrix, low, side, shape), nearest)
        nearest = -cv2.dilate(-nearest, np.ones((3, 3), np.uint8))
        # the side of a square, in the world, at what lies there
        wide = np.minimum(nearest, NOTHING) * float(np.max(side / reach))
        # beyond the rim the filter takes the greatest number there is for nothing
        limit = np.where(nearest < NOTHING, nearest + STEEP * wide, 0).astype(np.float32)
        return cls((float(low[0]), float(low[1])), (float(side[0]), float(side[1])), limit)

    def holds(self, points: Array, matrix: Array) -> Chosen:
        """Points (N, 3) that lie in front (N,)."""
        column, row, depth = _places(points, matrix, np.array(self.low), np.array(self.side), self.limit.shape)
        there = column >= 0
        out = np.zeros(len(points), bool)
        out[there] = depth[there] <= self.limit[row[there], column[there]]
        return out

    def packed(self) -> str:
        """The distances as text."""
        head = np.array(self.limit.shape, "<i4").tobytes()
        return base64.b64encode(zlib.compress(head + self.limit.astype("<f4").tobytes(), 6)).decode()

    @classmethod
    def unpacked(cls, low: tuple[float, float], side: tuple[float, float], text: str) -> Front:
        """From :meth:`packed`.

        Raises
        ------
        PlainError
            When the text is none of it.
        """
        try:
            data = zlib.decompressobj().decompress(base64.b64decode(text, validate=True), 8 + 4 * MOST * MOST)
            rows, columns = np.frombuffer(data[:8], "<i4")
            limit = np.frombuffer(data[8:], "<f4").reshape(rows, columns)
        except (ValueError, binascii.Error, zlib.error) as error:
            raise PlainError("A region of points is damaged.", "Undo it, and do it again.") from error
        return cls(low, side, limit)


def _places(
    points: Array, matrix: Array, low: Array, side: Array, shape: tuple[int, ...]
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float32]]:
    column, row = np.empty(len(points), np.int64), np.empty(len(points), np.int64)
    depth = np.empty(len(points), np.float32)
    _placed(
        np.ascontiguousarray(points), np.ascontiguousarray(matrix, np.float64), low, side, np.array(shape), column, row, depth
    )  # fmt: skip
    return column, row, depth
