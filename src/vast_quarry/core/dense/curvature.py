"""Depth maps of curved surfaces, put right: a plane that fits a window is a chord of what is curved.

Correlation over a window finds the plane that fits the surface best within it. Under a convex surface that plane lies inside,
by the mean of the surface's own bend over the window: ``m (w_uu + w_vv) / 2``, where ``w`` is inverse depth and ``m`` the
second moment of the window along an axis (pixels squared). The bend shows in the map itself: second differences of ``w`` over a
few pixels, in pairs of opposite neighbours so that no slope enters, averaged over directions and then over near pixels.

Measured on spheres and cylinders of known radius painted at all sizes (tests): without this the surface lies inside by
``10.8 / radius`` pixels of the map (with the wide window that planes are looked for in).

References
----------
Savitzky, A., Golay, M. (1964). Smoothing and differentiation of data by simplified least squares procedures. Analytical
Chemistry 36(8) (a fit over a window, and what it does to the second derivative).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import cv2
import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

Floats = NDArray[np.float32]

#: second moment of the window along an axis (pixels squared), as it acts: weights fall outwards, and what has contrast counts.
#: Measured on the sphere and the cylinder
MOMENT = 7.4
#: the same where planes were moved by photos of twice the size, whose window is half as wide
POLISHED_MOMENT = 2.2
#: how far apart second differences are taken (pixels), and over how many pixels each way they are averaged
REACHES, AVERAGED = (4, 6), 3
#: second differences beyond so many pixels of disparity are steps, not bends
STEP = 1.0


@njit(error_model="numpy", cache=True, parallel=True)
def _bend(w, valid, step, out, known):
    """Mean second derivative of ``w`` over directions, where pairs of opposite neighbours are on the same surface."""
    height, width = w.shape
    for j_ in prange(height):
        j = np.int64(j_)
        for i in range(width):
            if not valid[j, i]:
                continue
            total = 0.0
            count = 0
            for reach in REACHES:
                diagonal = np.int64(np.round(reach * 0.7071))
                for k in range(4):
                    di = reach if k == 0 else 0 if k == 1 else diagonal
                    dj = 0 if k == 0 else reach if k == 1 else diagonal if k == 2 else -diagonal
                    a, b = j + dj, i + di
                    c, d = j - dj, i - di
                    if min(a, c) < 0 or max(a, c) >= height or min(b, d) < 0 or max(b, d) >= width:
                        continue
                    if not (valid[a, b] and valid[c, d]):
                        continue
                    second = w[a, b] + w[c, d] - 2.0 * w[j, i]
                    if abs(second) > step:
                        continue
                    total += second / (di * di + dj * dj)
                    count += 1
            if count >= 4:
                out[j, i] = total / count
                known[j, i] = 1.0


def unbent(w: Floats, valid: NDArray[np.bool_], disparity_step: float, moment: float = MOMENT) -> Floats:
    """Inverse depths of the surface, from those of the planes that fit it.

    Parameters
    ----------
    w : (H, W) float32
        Inverse depth at each pixel of the plane that was found there.
    valid : (H, W) bool
        Pixels that have one.
    disparity_step : float
        Change of inverse depth that moves the image in a typical source photo by one pixel.
    moment : float
        Second moment of the window that the planes were found by.
    """
    bend, known = np.zeros(w.shape, np.float32), np.zeros(w.shape, np.float32)
    _bend(np.ascontiguousarray(w), valid, np.float32(STEP * disparity_step), bend, known)
    size = (2 * AVERAGED + 1, 2 * AVERAGED + 1)
    total = cv2.blur(bend, size, borderType=cv2.BORDER_CONSTANT)
    share = cv2.blur(known, size, borderType=cv2.BORDER_CONSTANT)
    mean = np.where(share > 0.05, total / np.maximum(share, 1e-6), 0.0)
    return np.where(valid, w - np.float32(moment) * mean, w).astype(np.float32)
