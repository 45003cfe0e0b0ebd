"""What of a cloud lies in front where a shape was drawn on the screen, so that a brush does not go through to the back.

The screen under the shape is cut into small squares, three times as wide as points lie apart there. Of each square the nearest
point is known, and what lies not much behind the nearest of it and those beside it is in front. The squares are kept with the shape: like
every other way of choosing it answers for each point by itself, and so for a finer cloud too.

References
----------
Pintus, R., Gobbetti, E., Agus, M. (2011). Real-time rendering of massive unstructured raw point clouds using
screen-space operators. VAST (visibility of points by those near them on the screen).
"""

from __future__ import annotations

import base64
import binascii
import zlib
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.screen import on_screen

Array = NDArray[np.float64]
Chosen = NDArray[np.bool_]

#: side of squares in spacings of the points, most squares along a side, and by how many sides of a square at its distance a surface
#: may go back within it: steeper ones are let go at their far end
WIDE, MOST, STEEP = 3.0, 512, 4.0
#: farther than anything
NOTHING = np.float32(1e30)


def _seen(points: Array, matrix: Array) -> tuple[Array, Array]:
    """Where points (N, 3) lie on the screen (N, 2), NaN behind the eye, and how far away (clip w) they are (N,)."""
    return on_screen(points, matrix), points @ matrix[3, :3] + matrix[3, 3]


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
            raise PlainError("There is no point left there.", "Draw over some points.")
        xy, w = _seen(points, matrix)
        low, span = xy.min(0), np.ptp(xy, axis=0)
        # what a spacing measures on the screen, at a middling distance
        reach = np.linalg.norm(matrix[:2, :3], axis=1)
        side = np.maximum(WIDE * spacing * reach / float(np.median(w)), np.maximum(span, 1e-9) / (MOST - 1))
        column, row = np.floor((xy - low) / side).astype(np.int64).T
        nearest = np.full((row.max() + 1, column.max() + 1), np.inf, np.float32)
        np.minimum.at(nearest, (row, column), w.astype(np.float32))
        nearest = -cv2.dilate(-nearest, np.ones((3, 3), np.uint8))
        # the side of a square, in the world, at what lies there
        wide = np.minimum(nearest, NOTHING) * float(np.max(side / reach))
        # beyond the rim the filter takes the greatest number there is for nothing
        limit = np.where(nearest < NOTHING, nearest + STEEP * wide, 0).astype(np.float32)
        return cls((float(low[0]), float(low[1])), (float(side[0]), float(side[1])), limit)

    def holds(self, points: Array, matrix: Array) -> Chosen:
        """Points (N, 3) that lie in front (N,)."""
        xy, w = _seen(points, matrix)
        at = np.floor((xy - self.low) / self.side)
        # comparisons with NaN are false: what is behind the eye lies in no square
        there = ((at >= 0) & (at < self.limit.shape[::-1])).all(1)
        out = np.zeros(len(points), bool)
        column, row = at[there].astype(np.int64).T
        out[there] = w[there] <= self.limit[row, column]
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
