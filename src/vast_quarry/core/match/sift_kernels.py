"""Numba kernels that find features; what they do and why stands in :mod:`vast_quarry.core.match.sift`.

Pictures are float32 with grey values 0 to 255; ``stack`` (6, H, W) holds one octave, each layer softer than the one before.
Places and sizes are in pixels of the octave.

Loops are short and plain, and divide without asking for zero (``error_model``): only so are they compiled to work on eight
numbers at a time.
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import numpy as np
from numba import njit

#: octave's layers between which extrema are sought, softness of the first
LAYERS, SIGMA = 3, 1.6
#: pixels at the rim that hold no feature
RIM = 5
#: columns of what :func:`refined` gives
X, Y, LAYER, SCALE, RESPONSE = range(5)


@njit(error_model="numpy", cache=True, inline="always", fastmath=True)
def _d(stack, k, y, x):
    """Difference of two layers that follow each other."""
    return stack[k + 1, y, x] - stack[k, y, x]


@njit(error_model="numpy", cache=True, fastmath=True)
def _differences(stack, y, d, most, least):
    """Row ``y`` of all differences (5, W), and the greatest and least of each three side by side."""
    wide = stack.shape[2]
    for k in range(LAYERS + 2):
        row, soft, sharp = d[k], stack[k + 1, y], stack[k, y]
        for x in range(wide):
            row[x] = soft[x] - sharp[x]
        left, mid, right, top, low = row[: wide - 2], row[1 : wide - 1], row[2:], most[k], least[k]
        for x in range(wide - 2):
            top[x] = max(max(left[x], mid[x]), right[x])
            low[x] = min(min(left[x], mid[x]), right[x])


@njit(error_model="numpy", cache=True, fastmath=True)
def _refined(stack, k, y, x, contrast, edge, row):
    """Place of an extremum between pixels and layers, by Newton steps on a parabola; False where it does not hold."""
    high, wide = stack.shape[1], stack.shape[2]
    for step in range(6):
        if step == 5:
            return False
        v = 2 * _d(stack, k, y, x)
        gx = 0.5 * (_d(stack, k, y, x + 1) - _d(stack, k, y, x - 1))
        gy = 0.5 * (_d(stack, k, y + 1, x) - _d(stack, k, y - 1, x))
        gs = 0.5 * (_d(stack, k + 1, y, x) - _d(stack, k - 1, y, x))
        xx = _d(stack, k, y, x + 1) + _d(stack, k, y, x - 1) - v
        yy = _d(stack, k, y + 1, x) + _d(stack, k, y - 1, x) - v
        ss = _d(stack, k + 1, y, x) + _d(stack, k - 1, y, x) - v
        xy = 0.25 * (
            _d(stack, k, y + 1, x + 1)
            - _d(stack, k, y + 1, x - 1)
            - _d(stack, k, y - 1, x + 1)
            + _d(stack, k, y - 1, x - 1)
        )
        xs = 0.25 * (
            _d(stack, k + 1, y, x + 1)
            - _d(stack, k + 1, y, x - 1)
            - _d(stack, k - 1, y, x + 1)
            + _d(stack, k - 1, y, x - 1)
        )
        ys = 0.25 * (
            _d(stack, k + 1, y + 1, x)
            - _d(stack, k + 1, y - 1, x)
            - _d(stack, k - 1, y + 1, x)
            + _d(stack, k - 1, y - 1, x)
        )
        # Cramer's rule
        a, b, c = yy * ss - ys * ys, xs * ys - xy * ss, xy * ys - xs * yy
        det = xx * a + xy * b + xs * c
        if det == 0.0:
            return False
        dx = -(a * gx + b * gy + c * gs) / det
        dy = -(b * gx + (xx * ss - xs * xs) * gy + (xs * xy - xx * ys) * gs) / det
        ds = -(c * gx + (xs * xy - xx * ys) * gy + (xx * yy - xy * xy) * gs) / det
        if abs(dx) < 0.5 and abs(dy) < 0.5 and abs(ds) < 0.5:
            break
        if not (abs(dx) < 1e6 and abs(dy) < 1e6 and abs(ds) < 1e6):
            return False
        x += int(np.round(dx))
        y += int(np.round(dy))
        k += int(np.round(ds))
        if k < 1 or k > LAYERS or x < RIM or x >= wide - RIM or y < RIM or y >= high - RIM:
            return False
    height = abs(_d(stack, k, y, x) + 0.5 * (gx * dx + gy * dy + gs * ds))
    if height < contrast:
        return False
    trace, flat = xx + yy, xx * yy - xy * xy
    if flat <= 0 or trace * trace * edge >= (edge + 1) ** 2 * flat:
        return False
    row[X] = x + dx
    row[Y] = y + dy
    row[LAYER] = k
    row[SCALE] = SIGMA * 2.0 ** ((k + ds) / LAYERS)
    row[RESPONSE] = height
    return True


@njit(error_model="numpy", cache=True, fastmath=True)
def _over_three(k, most, least, top, bottom):
    """Greatest and least of three rows."""
    a, b, c = most[0, k], most[1, k], most[2, k]
    for x in range(len(top)):
        top[x] = max(max(a[x], b[x]), c[x])
    a, b, c = least[0, k], least[1, k], least[2, k]
    for x in range(len(top)):
        bottom[x] = min(min(a[x], b[x]), c[x])


@njit(error_model="numpy", cache=True, fastmath=True)
def _stands_out(values, top, bottom, k, low, out):
    """By how much values are over the greatest about them, or under the least: not negative where they are extrema."""
    a, b, c = top[k - 1], top[k], top[k + 1]
    e, f, g = bottom[k - 1], bottom[k], bottom[k + 1]
    for x in range(len(out)):
        v = values[x]
        peak = min(v - low, v - max(max(a[x], b[x]), c[x]))
        pit = min(-low - v, min(min(e[x], f[x]), g[x]) - v)
        out[x] = max(peak, pit)


@njit(error_model="numpy", cache=True, fastmath=True)
def candidates(stack, low):
    """Pixels of an octave that stand out of the 26 about them by height: layer, row and column (M, 3) int32.

    What :func:`refined` does is kept out of here: with it in one function the rows are not worked on eight at a time.
    """
    high, wide = stack.shape[1], stack.shape[2]
    out = np.empty((max(0, high - 2 * RIM) * max(0, wide - 2 * RIM), 3), np.int32)
    n = 0
    # three rows at a time, of which the oldest gives way
    d = np.empty((3, LAYERS + 2, wide), np.float32)
    most = np.empty((3, LAYERS + 2, wide - 2), np.float32)
    least = np.empty_like(most)
    top = np.empty((LAYERS + 2, wide - 2), np.float32)
    bottom = np.empty_like(top)
    by = np.empty(wide - 2, np.float32)
    for y in range(RIM - 1, high - RIM + 1):
        _differences(stack, y, d[y % 3], most[y % 3], least[y % 3])
        if y <= RIM:
            continue
        for k in range(LAYERS + 2):
            _over_three(k, most, least, top[k], bottom[k])
        for k in range(1, LAYERS + 1):
            _stands_out(d[(y - 1) % 3, k, 1 : wide - 1], top, bottom, k, low, by)
            for x in range(RIM - 1, wide - RIM - 1):
                if by[x] >= 0 and n < len(out):
                    out[n, 0], out[n, 1], out[n, 2] = k, y - 1, x + 1
                    n += 1
    return out[:n].copy()


@njit(error_model="numpy", cache=True, fastmath=True)
def refined(stack, found, contrast, edge):
    """Extrema of the differences of an octave's layers.

    Parameters
    ----------
    stack : (6, H, W) float32
    found : (M, 3) int32
        Of :func:`candidates`.
    contrast : float
        Least height, in grey values.
    edge : float
        Greatest ratio of the two curvatures.

    Returns
    -------
    (N, 5) float32
        X, Y, layer, scale (sigma), height.
    """
    out = np.empty((len(found) + 1, 5), np.float32)
    n = 0
    for m in range(len(found)):
        if _refined(stack, int(found[m, 0]), int(found[m, 1]), int(found[m, 2]), contrast, edge, out[n]):
            n += 1
    return out[:n].copy()
