"""Choosing points of a cloud: by what they are like, by a plane, by what hangs together.

Every way of choosing answers for each point by itself, whatever other points are there: so a choice made on one cloud can be
applied to another, finer one of the same subject. What is found by looking at many points (a connected part, strays) is turned
into small cells of space for that (:class:`Cells`).

References
----------
Fischler, M., Bolles, R. (1981). Random sample consensus. Communications of the ACM 24(6) (plane through most of some points).
"""

from __future__ import annotations

import base64
import binascii
import zlib
from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.dense.strays import COMPANY, lost_cells, piece_of_cells
from vast_quarry.core.errors import PlainError

Array = NDArray[np.float64]
Chosen = NDArray[np.bool_]
#: side of cells in spacings of the points: as for strays; pieces are apart when a whole cell between them is empty
CELL = 3.0
#: what is suggested as strays: thinner company than is dropped unasked, and larger pieces
THIN, PIECE = 2 * COMPANY, 0.02
#: a plane is laid through three points so often
DRAWS = 400
#: columns of cells that a region may span: more is no region of ours
MOST_COLUMNS = 1 << 27


@njit(error_model="numpy", cache=True, nogil=True)
def _held(points, corner, side, begin, span, first, heights, out):  # type: ignore[no-untyped-def]
    """Points (N, 3) in cells; those of column c lie at ``heights[first[c]:first[c + 1]]``, sorted."""
    for k in range(len(points)):
        out[k] = False
        x = np.floor((points[k, 0] - corner[0]) / side) - begin[0]
        y = np.floor((points[k, 1] - corner[1]) / side) - begin[1]
        z = np.floor((points[k, 2] - corner[2]) / side) - begin[2]
        if not (x >= 0 and y >= 0 and z >= 0 and x < span[0] and y < span[1] and z < span[2]):
            continue
        column = np.int64(x) * span[1] + np.int64(y)
        low, high = first[column], first[column + 1]
        while low < high:
            middle = (low + high) // 2
            if heights[middle] < z:
                low = middle + 1
            else:
                high = middle
        out[k] = low < first[column + 1] and heights[low] == z


def lab(colors: NDArray[np.uint8]) -> NDArray[np.float32]:
    """CIELAB (N, 3) of sRGB colours (N, 3)."""
    if not len(colors):
        return np.zeros((0, 3), np.float32)
    as_picture = np.ascontiguousarray(colors, np.uint8).reshape(-1, 1, 3).astype(np.float32) / 255
    return cv2.cvtColor(as_picture, cv2.COLOR_RGB2LAB).reshape(-1, 3)


def of_color(colors: NDArray[np.uint8], rgb: tuple[int, int, int], within: float) -> Chosen:
    """Colours (N, 3) that differ from one by no more than so much (CIE 1976 colour difference) (N,)."""
    off = lab(colors) - lab(np.array([rgb], np.uint8))
    return np.asarray(np.einsum("nk,nk->n", off, off) <= within * within)


def color_at(cloud: Cloud, place: Array) -> tuple[int, int, int]:
    """The colour of a cloud at a place (3,): the median of the points about it.

    Raises
    ------
    PlainError
        When there are no points.
    """
    if not len(cloud.points):
        raise PlainError("There is no point left there.", "Press on a point.")
    off = np.linalg.norm(cloud.points - place, axis=1)
    near = off <= max(off.min(), 2 * _spacing(cloud))
    r, g, b = np.median(cloud.colors[near], axis=0).astype(int).tolist()
    return r, g, b


def near_plane(points: Array, point: Array, normal: Array, within: float, side: str) -> Chosen:
    """Points (N, 3) by a plane: ``near`` it, ``above`` it by more than so much (along the normal), or ``below`` it (N,)."""
    off = (points - point) @ (normal / np.linalg.norm(normal))
    if side == "near":
        return np.asarray(np.abs(off) <= within)
    return np.asarray(off > within if side == "above" else off < -within)


def _numbers(cells: NDArray[np.int64], span: NDArray[np.int64]) -> NDArray[np.int64]:
    """One number for each cell (N, 3) of a block of so many along each side."""
    return np.asarray((cells[:, 0] * span[1] + cells[:, 1]) * span[2] + cells[:, 2])


def _of_numbers(key: NDArray[np.int64], span: NDArray[np.int64]) -> NDArray[np.int64]:
    """Cells (N, 3) by their numbers (N,)."""
    return np.stack([key // (span[1] * span[2]), key // span[2] % span[1], key % span[2]], 1)


@dataclass(frozen=True)
class Cells:
    """Cells of space: a corner (3,), the side, and which cells (N, 3) counted from that corner, sorted."""

    low: tuple[float, float, float]
    side: float
    cells: NDArray[np.int64]

    def packed(self) -> str:
        """The cells as text: differences of their numbers, compressed."""
        low, span = self._frame()
        steps = np.diff(np.sort(_numbers(self.cells - low, span)), prepend=0)
        head = np.concatenate([low, span]).astype("<i8").tobytes()
        return base64.b64encode(head + zlib.compress(steps.astype("<i8").tobytes(), 6)).decode()

    @classmethod
    def unpacked(cls, low: tuple[float, float, float], side: float, text: str) -> Cells:
        """From :meth:`packed`.

        Raises
        ------
        PlainError
            When the text is none of it.
        """
        try:
            data = base64.b64decode(text, validate=True)
            first, span = np.frombuffer(data[:48], "<i8").reshape(2, 3)
            if (span <= 0).any() or float(span[0]) * float(span[1]) > MOST_COLUMNS:
                raise ValueError("no cells")
            key = np.cumsum(np.frombuffer(zlib.decompressobj().decompress(data[48:], 1 << 28), "<i8"))
            cells = _of_numbers(key, span) + first
        except (ValueError, binascii.Error, zlib.error) as error:
            raise PlainError("A region of points is damaged.", "Undo it, and do it again.") from error
        return cls(low, side, cells)

    def _frame(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        if not len(self.cells):
            return np.zeros(3, np.int64), np.ones(3, np.int64)
        return self.cells.min(0), np.ptp(self.cells, axis=0).astype(np.int64) + 1

    def hold(self, points: Array) -> Chosen:
        """Points (N, 3) that lie in one of the cells (N,)."""
        out = np.zeros(len(points), bool)
        if not len(self.cells):
            return out
        low, span = self._frame()
        key = np.sort(_numbers(self.cells - low, span))
        # the cells of each column one after the other: only few are searched for a point
        first = np.searchsorted(key, np.arange(span[0] * span[1] + 1) * span[2])
        _held(np.ascontiguousarray(points), np.array(self.low), self.side, low, span, first, key % span[2], out)
        return out


def _celled(points: Array, spacing: float) -> tuple[Array, float, NDArray[np.int64], NDArray[np.int64]]:
    """Corner, side, cells (C, 3) that hold points, and how many each holds (C,)."""
    low, side = points.min(0), CELL * spacing
    at = np.floor((points - low) / side).astype(np.int64)
    span = np.ptp(at, axis=0).astype(np.int64) + 1
    key, count = np.unique(_numbers(at, span), return_counts=True)
    return low, side, _of_numbers(key, span), count


def connected_part(cloud: Cloud, place: Array) -> Cells:
    """The part of a cloud that hangs together about a place (3,), as cells.

    Raises
    ------
    PlainError
        When there are no points.
    """
    if not len(cloud.points):
        raise PlainError("There is no point left there.", "Press on a point.")
    low, side, cells, _ = _celled(cloud.points, _spacing(cloud))
    piece = piece_of_cells(cells)
    nearest = np.argmin(((cells + 0.5) * side + low - place) ** 2 @ np.ones(3))
    return Cells(_triple(low), side, cells[piece == piece[nearest]])


def suggested_strays(cloud: Cloud) -> Cells:
    """What looks like strays, as cells: thin company, and small parts that hang together with nothing."""
    if len(cloud.points) < 100:
        return Cells((0.0, 0.0, 0.0), 1.0, np.zeros((0, 3), np.int64))
    low, side, cells, count = _celled(cloud.points, _spacing(cloud))
    return Cells(_triple(low), side, cells[lost_cells(cells, count, THIN, PIECE)])


def fitted_plane(points: Array, spacing: float, seed: int = 0) -> tuple[Array, Array, float]:
    """The plane through most of some points (N, 3): a point (3,), its normal (3,) upwards, and how far most lie off it.

    Parameters
    ----------
    spacing : float
        How far points lie apart: what lies within two of these of a plane counts for it.

    Raises
    ------
    PlainError
        When there are too few.
    """
    if len(points) < 3:
        raise PlainError("A plane needs three points at least.", "Choose some points that lie in it first.")
    rng = np.random.default_rng(seed)
    few = points[rng.choice(len(points), min(len(points), 20_000), replace=False)]
    middle, normal, most = few.mean(0), np.array([0.0, 0.0, 1.0]), -1
    for _ in range(DRAWS):
        a, b, c = few[rng.choice(len(few), 3, replace=False)]
        n = np.cross(b - a, c - a)
        length = float(np.linalg.norm(n))
        if length < 1e-12:
            continue
        n = n / length
        count = int((np.abs((few - a) @ n) <= 2 * spacing).sum())
        if count > most:
            middle, normal, most = a, n, count
    for _ in range(3):
        near = few[np.abs((few - middle) @ normal) <= 2 * spacing]
        if len(near) < 3:
            break
        middle = near.mean(0)
        normal = np.linalg.svd(near - middle, full_matrices=False)[2][2]
    off = np.abs((few - middle) @ normal)
    spread = 1.4826 * float(np.median(off[off <= 4 * spacing])) if (off <= 4 * spacing).any() else 0.0
    return middle, normal * (1.0 if normal[2] >= 0 else -1.0), max(2 * spacing, 3 * spread)


def _spacing(cloud: Cloud) -> float:
    return max(float(np.median(cloud.gsd)), 1e-9)


def _triple(v: Array) -> tuple[float, float, float]:
    return float(v[0]), float(v[1]), float(v[2])
