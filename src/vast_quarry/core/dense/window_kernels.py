"""Numba kernels of a window under a plane: its image in a source photo, what it costs there, and the step that makes it better.

Pixels of sources are packed (:func:`pack`): ``tex`` holds all of them one after the other, ``bases`` (n,) where each begins, ``sw``
and ``sh`` (n,) their sizes; ``H`` (n, 9) and ``HB`` (n, 3) map a pixel and its inverse depth into each. What they compute stands in
:mod:`vast_quarry.core.dense.patchmatch`.

References
----------
Gruen, A. (1985). Adaptive least squares correlation: a powerful image matching technique. South African Journal of
Photogrammetry, Remote Sensing and Cartography 14(3) (:func:`newton`; here over a plane in space and several photos).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import numpy as np
from numba import njit, prange

#: samples of a window: 6 x 6 at every second pixel, without its corners: 32 fill vector lanes exactly
OFFSETS = np.array(
    [(x, y) for y in range(-5, 6, 2) for x in range(-5, 6, 2) if not (abs(x) == 5 and abs(y) == 5)], dtype=np.float32
)
COUNT = OFFSETS.shape[0]
WORST = np.float32(2.0)
#: candidates are given up when the views asked so far are so many times worse than the present plane's mean. With 1.2 planes come
#: out a little better than with all views asked, and sooner; with 0.9 some good ones are lost (six photos of four subjects)
SLACK = np.float32(1.2)
#: a plane the same as another to so many pixels in the sources is not tried: of inverse depth, of slope
SAME, SAME_SLOPE = np.float32(0.06), np.float32(0.024)
#: how firmly Newton's steps hold the slopes, as a share of what is known of the inverse depth
HELD = 0.02


@njit(error_model="numpy", cache=True, parallel=True)
def pack(gray):
    """Four neighbouring bytes of a picture in one 32-bit word, for one load per bilinear sample (H, W) uint32."""
    h, w = gray.shape
    out = np.zeros((h, w), np.uint32)
    for j in prange(h - 1):
        for i in range(w - 1):
            out[j, i] = (
                np.uint32(gray[j, i])
                | np.uint32(gray[j, i + 1]) << np.uint32(8)
                | np.uint32(gray[j + 1, i]) << np.uint32(16)
                | np.uint32(gray[j + 1, i + 1]) << np.uint32(24)
            )
    return out


@njit(error_model="numpy", cache=True, fastmath=True, inline="always")
def window(ref, j, i, sigma_color, falloff, ox, oy, value, weight):
    """Values and bilateral weights of a window in the reference; returns weighted mean and variance.

    ``falloff``: by how much less a sample counts, of the square of its distance in pixels. Of its difference from the middle it counts
    less by a square of a square: with the square alone a dark contour outweighs the backdrop on its other side, which then goes along
    with it (windows that took it along, at the rim of a finial: 40 %, now 17).
    """
    h, w = ref.shape
    center = np.float32(ref[j, i])
    total = np.float32(0.0)
    mean = np.float32(0.0)
    inv = np.float32(1.0 / (sigma_color * sigma_color))
    for k in range(32):
        y = min(max(j + np.int64(oy[k]), 0), h - 1)
        x = min(max(i + np.int64(ox[k]), 0), w - 1)
        value[k] = np.float32(ref[y, x])
    for k in range(32):
        d = value[k] - center
        s = np.float32(1.0) + falloff * (ox[k] * ox[k] + oy[k] * oy[k])
        b = np.float32(1.0) + d * d * inv
        wk = np.float32(1.0) / (s * b * b)
        weight[k] = wk
        total += wk
        mean += wk * value[k]
    mean /= total
    var = np.float32(0.0)
    for k in range(32):
        weight[k] /= total
        value[k] -= mean
        var += weight[k] * value[k] * value[k]
    return mean, var


@njit(error_model="numpy", cache=True, fastmath=True, inline="always")
def image_of(sw, sh, H, HB, v, px, py, w, wx, wy):
    """Where a pixel's plane puts its window in source ``v``: whether all of it is in the frame, its middle, the first derivative
    (du, dv of x, then of y), and one over the depth there (relative to the reference's)."""
    a0 = H[v, 0] * px + H[v, 1] * py + H[v, 2] + w * HB[v, 0]
    a1 = H[v, 3] * px + H[v, 4] * py + H[v, 5] + w * HB[v, 1]
    a2 = H[v, 6] * px + H[v, 7] * py + H[v, 8] + w * HB[v, 2]
    inv = np.float32(1.0) / max(a2, np.float32(1e-6))
    x = a0 * inv
    y = a1 * inv
    j00 = (H[v, 0] + wx * HB[v, 0] - x * (H[v, 6] + wx * HB[v, 2])) * inv
    j01 = (H[v, 1] + wy * HB[v, 0] - x * (H[v, 7] + wy * HB[v, 2])) * inv
    j10 = (H[v, 3] + wx * HB[v, 1] - y * (H[v, 6] + wx * HB[v, 2])) * inv
    j11 = (H[v, 4] + wy * HB[v, 1] - y * (H[v, 7] + wy * HB[v, 2])) * inv
    ex = np.float32(5.0) * (abs(j00) + abs(j01))
    ey = np.float32(5.0) * (abs(j10) + abs(j11))
    inside = (
        a2 > np.float32(1e-6)
        and ex <= np.float32(40.0)
        and ey <= np.float32(40.0)
        and x - ex >= np.float32(0.0)
        and y - ey >= np.float32(0.0)
        and x + ex < np.float32(sw - 2)
        and y + ey < np.float32(sh - 2)
    )
    return inside, x, y, j00, j01, j10, j11, inv


@njit(error_model="numpy", cache=True, fastmath=True, inline="always")
def fetch(tex, base, sw, x, y, j00, j01, j10, j11, ox, oy, index, fx, fy):
    """The four pixels about each sample of a window, packed, into ``index``; where between them it lies into ``fx``, ``fy``."""
    for k in range(32):
        sx = x + j00 * ox[k] + j01 * oy[k]
        sy = y + j10 * ox[k] + j11 * oy[k]
        ix = np.int32(sx)
        iy = np.int32(sy)
        fx[k] = sx - np.float32(ix)
        fy[k] = sy - np.float32(iy)
        index[k] = iy * np.int32(sw) + ix
    for k in range(32):
        index[k] = np.int32(tex[base + np.int64(index[k])])


@njit(error_model="numpy", cache=True, fastmath=True, inline="always")
def _cost(tex, base, sw, sh, H, HB, v, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy):
    """1 - NCC between the window and its image in source ``v`` under an inverse-depth plane; WORST when out of frame."""
    inside, x, y, j00, j01, j10, j11, _ = image_of(sw, sh, H, HB, v, px, py, w, wx, wy)
    if not inside:
        return WORST
    fetch(tex, base, sw, x, y, j00, j01, j10, j11, ox, oy, index, fx, fy)
    s1 = np.float32(0.0)
    s2 = np.float32(0.0)
    s3 = np.float32(0.0)
    for k in range(32):
        word = index[k]
        p00 = np.float32(word & 255)
        p01 = np.float32((word >> 8) & 255)
        p10 = np.float32((word >> 16) & 255)
        p11 = np.float32((word >> 24) & 255)
        top = p00 + fx[k] * (p01 - p00)
        bottom = p10 + fx[k] * (p11 - p10)
        s = top + fy[k] * (bottom - top)
        ws = weight[k] * s
        s1 += ws
        s2 += ws * s
        s3 += ws * value[k]
    vs = s2 - s1 * s1
    if vs < np.float32(1.0):
        return WORST * np.float32(0.75)
    return np.float32(1.0) - s3 / np.sqrt(vs * var)


@njit(error_model="numpy", cache=True, fastmath=True)
def score_all(tex, bases, sw, sh, H, HB, views, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy, costs):
    for v in range(views):
        costs[v] = _cost(
            tex, bases[v], sw[v], sh[v], H, HB, v, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy
        )


@njit(error_model="numpy", cache=True, fastmath=True, inline="always")
def cost_over(
    views, keep, limit, slack, tex, bases, sw, sh, H, HB, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy
):
    """Sum of a plane's costs in some source views (-1 counts WORST); ``limit`` once it reaches that, or once the views asked so far
    are so bad (``slack`` times their share of it) that it will."""
    total = np.float32(0.0)
    for k in range(keep):
        v = views[k]
        if v < 0:
            total += WORST
        else:
            total += _cost(
                tex, bases[v], sw[v], sh[v], H, HB, v, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy
            )
        if total >= limit or total * np.float32(keep) >= limit * slack * np.float32(k + 1):
            return limit
    return total


@njit(error_model="numpy", cache=True, fastmath=True)
def _told(
    tex, base, sw, sh, H, HB, v, px, py, w, wx, wy, value, weight, ox, oy, index, fx, fy, seen, slope, normal
):  # fmt: skip
    """Adds what one source tells of how a plane should change to the normal equations.

    ``normal``: J'J (00, 01, 02, 11, 12, 22), then J'r, over inverse depth and its slopes. Mean and gain of the source's window are
    free: what they take up is taken out of the derivatives.
    """
    inside, x, y, j00, j01, j10, j11, inv = image_of(sw, sh, H, HB, v, px, py, w, wx, wy)
    if not inside:
        return
    fetch(tex, base, sw, x, y, j00, j01, j10, j11, ox, oy, index, fx, fy)
    dx = (HB[v, 0] - x * HB[v, 2]) * inv
    dy = (HB[v, 1] - y * HB[v, 2]) * inv
    s1 = np.float32(0.0)
    s2 = np.float32(0.0)
    s3 = np.float32(0.0)
    m0 = np.float32(0.0)
    m1 = np.float32(0.0)
    m2 = np.float32(0.0)
    for k in range(32):
        word = index[k]
        p00 = np.float32(word & 255)
        p01 = np.float32((word >> 8) & 255)
        p10 = np.float32((word >> 16) & 255)
        p11 = np.float32((word >> 24) & 255)
        right = p01 - p00
        top = p00 + fx[k] * right
        down = p10 + fx[k] * (p11 - p10) - top
        s = top + fy[k] * down
        g = (right + fy[k] * (p11 - p10 - right)) * dx + down * dy
        seen[k] = s
        slope[k] = g
        ws = weight[k] * s
        wg = weight[k] * g
        s1 += ws
        s2 += ws * s
        s3 += ws * value[k]
        m0 += wg
        m1 += wg * ox[k]
        m2 += wg * oy[k]
    vs = s2 - s1 * s1
    if vs < np.float32(1.0) or s3 <= np.float32(0.0):
        return
    gain = s3 / vs
    c0 = np.float32(0.0)
    c1 = np.float32(0.0)
    c2 = np.float32(0.0)
    for k in range(32):
        seen[k] -= s1
        ws = weight[k] * seen[k] * slope[k]
        c0 += ws
        c1 += ws * ox[k]
        c2 += ws * oy[k]
    c0 /= vs
    c1 /= vs
    c2 /= vs
    h00 = np.float32(0.0)
    h01 = np.float32(0.0)
    h02 = np.float32(0.0)
    h11 = np.float32(0.0)
    h12 = np.float32(0.0)
    h22 = np.float32(0.0)
    r0 = np.float32(0.0)
    r1 = np.float32(0.0)
    r2 = np.float32(0.0)
    for k in range(32):
        g0 = gain * (slope[k] - m0 - c0 * seen[k])
        g1 = gain * (slope[k] * ox[k] - m1 - c1 * seen[k])
        g2 = gain * (slope[k] * oy[k] - m2 - c2 * seen[k])
        r = weight[k] * (value[k] - gain * seen[k])
        r0 += g0 * r
        r1 += g1 * r
        r2 += g2 * r
        w0 = g0 * weight[k]
        w1 = g1 * weight[k]
        h00 += w0 * g0
        h01 += w0 * g1
        h02 += w0 * g2
        h11 += w1 * g1
        h12 += w1 * g2
        h22 += weight[k] * g2 * g2
    normal[0] += h00
    normal[1] += h01
    normal[2] += h02
    normal[3] += h11
    normal[4] += h12
    normal[5] += h22
    normal[6] += r0
    normal[7] += r1
    normal[8] += r2


@njit(error_model="numpy", cache=True, fastmath=True, inline="always")
def _solved(normal, change):
    """The change of a plane that normal equations ask for, into ``change``; False where they do not tell."""
    a = np.float64(normal[0]) * 1.001
    b = np.float64(normal[1])
    c = np.float64(normal[2])
    # slopes are held a little: a window of one edge does not tell them
    d = np.float64(normal[3]) * 1.001 + HELD * a
    e = np.float64(normal[4])
    f = np.float64(normal[5]) * 1.001 + HELD * a
    m00 = d * f - e * e
    m01 = c * e - b * f
    m02 = b * e - c * d
    det = a * m00 + b * m01 + c * m02
    if a <= 0.0 or det <= 1e-9 * a * d * f:
        return False
    m11 = a * f - c * c
    m12 = b * c - a * e
    m22 = a * d - b * b
    r0 = np.float64(normal[6])
    r1 = np.float64(normal[7])
    r2 = np.float64(normal[8])
    change[0] = (m00 * r0 + m01 * r1 + m02 * r2) / det
    change[1] = (m01 * r0 + m11 * r1 + m12 * r2) / det
    change[2] = (m02 * r0 + m12 * r1 + m22 * r2) / det
    return True


@njit(error_model="numpy", cache=True, fastmath=True, inline="always")
def newton(
    steps, total, farthest, low, top, views, keep, tex, bases, sw, sh, H, HB, px, py, w, wx, wy, value, weight, var, ox, oy, index,
    fx, fy, seen, slope, normal, change,
):  # fmt: skip
    """A plane moved by Gauss and Newton's steps to where its views agree best: (w, wx, wy, sum of its costs).

    A step counts only if it lowers the sum ``total``, moves the plane by no more than ``farthest`` and leaves it between ``low``
    and ``top``.
    """
    for _ in range(steps):
        for k in range(9):
            normal[k] = np.float32(0.0)
        for k in range(keep):
            v = views[k]
            if v >= 0:
                _told(
                    tex, bases[v], sw[v], sh[v], H, HB, v, px, py, w, wx, wy, value, weight, ox, oy, index, fx, fy, seen, slope,
                    normal,
                )  # fmt: skip
        if not _solved(normal, change):
            break
        q = w + change[0]
        qx = wx + change[1]
        qy = wy + change[2]
        if q < low or q > top or abs(change[0]) > farthest:
            break
        tried = cost_over(
            views,
            keep,
            total,
            SLACK,
            tex,
            bases,
            sw,
            sh,
            H,
            HB,
            px,
            py,
            q,
            qx,
            qy,
            value,
            weight,
            var,
            ox,
            oy,
            index,
            fx,
            fy,
        )
        if not tried < total:
            break
        total = tried
        w = q
        wx = qx
        wy = qy
    return w, wx, wy, total
