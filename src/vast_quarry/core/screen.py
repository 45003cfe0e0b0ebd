"""Shapes drawn on the screen over the world: which places lie inside an outline, or under a brush."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

Array = NDArray[np.float64]
Chosen = NDArray[np.bool_]
#: bands over the height of a polygon, so that a point is only held against edges at its own height
BANDS = 512


@njit(error_model="numpy", cache=True, nogil=True)
def _on_screen(points, matrix, out):  # type: ignore[no-untyped-def]
    """Where points (N, 3) lie on the screen, -1 to 1, y up (N, 2); NaN behind the eye."""
    for k in range(len(points)):
        x, y, z = points[k, 0], points[k, 1], points[k, 2]
        w = matrix[3, 0] * x + matrix[3, 1] * y + matrix[3, 2] * z + matrix[3, 3]
        if w <= 1e-9:
            out[k, 0] = out[k, 1] = np.nan
            continue
        out[k, 0] = (matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2] * z + matrix[0, 3]) / w
        out[k, 1] = (matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2] * z + matrix[1, 3]) / w


@njit(error_model="numpy", cache=True, nogil=True)
def _in_polygon(xy, corners, low, height, first, edges, out):  # type: ignore[no-untyped-def]
    """Even-odd rule for points (N, 2); the edges of band b are ``edges[first[b]:first[b + 1]]``."""
    n, bands = len(corners), len(first) - 1
    for k in range(len(xy)):
        x, y = xy[k, 0], xy[k, 1]
        out[k] = False
        band = (y - low) / height * bands
        if not (band >= 0.0 and band <= bands):  # outside, or behind the eye
            continue
        b = min(bands - 1, int(band))
        inside = False
        for e in range(first[b], first[b + 1]):
            i = edges[e]
            j = i + 1 if i + 1 < n else 0
            y1, y2 = corners[i, 1], corners[j, 1]
            if (y1 > y) != (y2 > y) and x < (corners[j, 0] - corners[i, 0]) * (y - y1) / (y2 - y1) + corners[i, 0]:
                inside = not inside
        out[k] = inside


@njit(error_model="numpy", cache=True, nogil=True)
def _along_path(xy, path, aspect, radius, out):  # type: ignore[no-untyped-def]
    """Points (N, 2) no farther than a radius from a path (K, 2), in halves of the screen's height."""
    low0, low1 = path[:, 0].min() * aspect - radius, path[:, 1].min() - radius
    high0, high1 = path[:, 0].max() * aspect + radius, path[:, 1].max() + radius
    for k in range(len(xy)):
        x, y = xy[k, 0] * aspect, xy[k, 1]
        out[k] = False
        if not (x >= low0 and x <= high0 and y >= low1 and y <= high1):
            continue
        for i in range(len(path)):
            j = min(i + 1, len(path) - 1)
            ax, ay = path[i, 0] * aspect, path[i, 1]
            bx, by = path[j, 0] * aspect - ax, path[j, 1] - ay
            length = bx * bx + by * by
            t = ((x - ax) * bx + (y - ay) * by) / length if length > 0 else 0.0
            t = min(1.0, max(0.0, t))
            dx, dy = x - ax - t * bx, y - ay - t * by
            if dx * dx + dy * dy <= radius * radius:
                out[k] = True
                break


def on_screen(points: Array, matrix: Array) -> Array:
    """Where points (N, 3) lie on a screen, -1 to 1 over its width and height, y up (N, 2); NaN behind the eye.

    Parameters
    ----------
    matrix : (4, 4)
        World to clip space, row by row.
    """
    out = np.empty((len(points), 2))
    _on_screen(np.ascontiguousarray(points), np.ascontiguousarray(matrix, np.float64), out)
    return out


def in_outline(points: Array, outline: Array, matrix: Array) -> Chosen:
    """Points (N, 3) inside a closed polygon (K, 2) on the screen, by the even-odd rule (N,)."""
    corners = np.ascontiguousarray(outline, np.float64)
    y, following = corners[:, 1], np.roll(corners[:, 1], -1)
    low, height = float(y.min()), max(float(np.ptp(y)), 1e-12)
    place = lambda v: np.clip(((v - low) / height * BANDS).astype(np.int64), 0, BANDS - 1)  # noqa: E731
    begin, end = place(np.minimum(y, following)), place(np.maximum(y, following))
    count = end - begin + 1
    which = np.repeat(np.arange(len(corners)), count)
    band = np.repeat(begin - np.cumsum(count) + count, count) + np.arange(count.sum())
    order = np.argsort(band, kind="stable")
    first = np.searchsorted(band[order], np.arange(BANDS + 1))
    out = np.zeros(len(points), bool)
    _in_polygon(on_screen(points, matrix), corners, low, height, first, which[order], out)
    return out


def under_brush(points: Array, path: Array, radius: float, aspect: float, matrix: Array) -> Chosen:
    """Points (N, 3) that a round brush covers on its way (K, 2) over the screen (N,).

    Parameters
    ----------
    radius : float
        In halves of the screen's height.
    aspect : float
        Width over height of the screen.
    """
    out = np.zeros(len(points), bool)
    _along_path(on_screen(points, matrix), np.ascontiguousarray(path, np.float64), float(aspect), float(radius), out)
    return out
