"""Numba kernels of the multi-view PatchMatch; what they compute stands in :mod:`vast_quarry.core.dense.patchmatch`."""

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
#: places from which a pixel takes candidate planes over; all of the other colour of the checkerboard
NEIGHBOURS = np.array(
    [
        (1, 0),
        (-1, 0),
        (0, 1),
        (0, -1),
        (3, 0),
        (-3, 0),
        (0, 3),
        (0, -3),
        (2, 1),
        (-2, -1),
        (7, 0),
        (-7, 0),
        (0, 7),
        (0, -7),
    ],
    dtype=np.int64,
)


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
def _window(ref, j, i, sigma_color, ox, oy, value, weight):
    """Values and bilateral weights of a window in the reference; returns weighted mean and variance."""
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
        s = np.float32(1.0) + np.float32(0.02) * (ox[k] * ox[k] + oy[k] * oy[k])
        wk = np.float32(1.0) / (s * (np.float32(1.0) + d * d * inv))
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
def _cost(tex, base, sw, sh, H, HB, v, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy):
    """1 - NCC between the window and its image in source ``v`` under an inverse-depth plane; WORST when out of frame."""
    a0 = H[v, 0] * px + H[v, 1] * py + H[v, 2] + w * HB[v, 0]
    a1 = H[v, 3] * px + H[v, 4] * py + H[v, 5] + w * HB[v, 1]
    a2 = H[v, 6] * px + H[v, 7] * py + H[v, 8] + w * HB[v, 2]
    if a2 <= np.float32(1e-6):
        return WORST
    inv = np.float32(1.0) / a2
    x = a0 * inv
    y = a1 * inv
    # derivative of the projection along u and v
    j00 = (H[v, 0] + wx * HB[v, 0] - x * (H[v, 6] + wx * HB[v, 2])) * inv
    j01 = (H[v, 1] + wy * HB[v, 0] - x * (H[v, 7] + wy * HB[v, 2])) * inv
    j10 = (H[v, 3] + wx * HB[v, 1] - y * (H[v, 6] + wx * HB[v, 2])) * inv
    j11 = (H[v, 4] + wy * HB[v, 1] - y * (H[v, 7] + wy * HB[v, 2])) * inv
    ex = np.float32(5.0) * (abs(j00) + abs(j01))
    ey = np.float32(5.0) * (abs(j10) + abs(j11))
    if ex > np.float32(40.0) or ey > np.float32(40.0):
        return WORST
    if (
        x - ex < np.float32(0.0)
        or y - ey < np.float32(0.0)
        or x + ex >= np.float32(sw - 2)
        or y + ey >= np.float32(sh - 2)
    ):
        return WORST
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
def _score_all(tex, bases, sw, sh, H, HB, views, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy, costs):
    for v in range(views):
        costs[v] = _cost(
            tex, bases[v], sw[v], sh[v], H, HB, v, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy
        )


@njit(error_model="numpy", cache=True, fastmath=True, inline="always")
def _best(costs, views, keep, chosen):
    """Numbers of the ``keep`` least costs into ``chosen``; returns their mean (views without a valid cost count WORST)."""
    total = np.float32(0.0)
    taken = 0
    used = np.uint64(0)
    for k in range(keep):
        at = -1
        low = np.float32(1e9)
        for v in range(views):
            if (used >> np.uint64(v)) & np.uint64(1) == np.uint64(0) and costs[v] < low:
                low = costs[v]
                at = v
        if at < 0:
            break
        used |= np.uint64(1) << np.uint64(at)
        chosen[k] = at
        total += low
        taken += 1
    for k in range(taken, keep):
        chosen[k] = -1
        total += WORST
    return total / np.float32(keep)


@njit(error_model="numpy", cache=True, fastmath=True, inline="always")
def _cost_over(
    views, keep, limit, tex, bases, sw, sh, H, HB, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy
):
    """Sum of a plane's costs in some source views (-1 counts WORST), given up once it reaches ``limit``."""
    total = np.float32(0.0)
    for k in range(keep):
        v = views[k]
        if v < 0:
            total += WORST
        else:
            total += _cost(
                tex, bases[v], sw[v], sh[v], H, HB, v, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy
            )
        if total >= limit:
            break
    return total


@njit(error_model="numpy", cache=True, inline="always")
def _random(state):
    """xorshift64: next state, and a float in [0, 1)."""
    state ^= state << np.uint64(13)
    state ^= state >> np.uint64(7)
    state ^= state << np.uint64(17)
    return state, np.float32((state >> np.uint64(40)) * (1.0 / 16777216.0))


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def sweep(
    ref, active, near, far, plane, cost, chosen, tex, bases, sw, sh, H, HB, views, keep, color, seed, sigma_color,
    spread, refine, smallest_var,
):  # fmt: skip
    """One half sweep over the pixels of one checkerboard colour, in place.

    ``plane`` (H, W, 3) holds inverse depth at the pixel and its slopes along u and v, ``chosen`` (H, W, keep) the
    source views it was best in, ``cost`` (H, W) its cost. ``near`` and ``far`` (H, W) bound the inverse depth from
    above and below.
    """
    height, width = ref.shape
    ox = OFFSETS[:, 0].copy()
    oy = OFFSETS[:, 1].copy()
    for j_ in prange(height):
        j = np.int64(j_)
        value = np.empty(32, np.float32)
        weight = np.empty(32, np.float32)
        index = np.empty(32, np.int32)
        fx = np.empty(32, np.float32)
        fy = np.empty(32, np.float32)
        costs = np.empty(64, np.float32)
        mine = np.empty(8, np.int64)
        state = (
            np.uint64(seed) * np.uint64(0x9E3779B97F4A7C15)
            + np.uint64(j + 1) * np.uint64(0xBF58476D1CE4E5B9)
            + np.uint64(1)
        )
        for i in range((j + color) % 2, width, 2):
            if not active[j, i]:
                continue
            _, var = _window(ref, j, i, sigma_color, ox, oy, value, weight)
            if var < smallest_var:
                var = np.float32(smallest_var)
            px = np.float32(i)
            py = np.float32(j)
            w = plane[j, i, 0]
            wx = plane[j, i, 1]
            wy = plane[j, i, 2]
            _score_all(
                tex, bases, sw, sh, H, HB, views, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy, costs
            )
            best = _best(costs, views, keep, mine)
            top = near[j, i]
            low = far[j, i]
            tested = 0
            for n in range(NEIGHBOURS.shape[0]):
                x = i + NEIGHBOURS[n, 0]
                y = j + NEIGHBOURS[n, 1]
                if x < 0 or y < 0 or x >= width or y >= height or not active[y, x]:
                    continue
                if n >= 8 and cost[y, x] > best * np.float32(0.8):
                    continue  # far neighbours only when they are clearly better themselves
                qx = plane[y, x, 1]
                qy = plane[y, x, 2]
                q = plane[y, x, 0] + qx * np.float32(i - x) + qy * np.float32(j - y)
                if q < low or q > top:
                    continue
                # the same plane to a few hundredths of a pixel: no need to score it again
                if abs(q - w) < spread * np.float32(0.03) and abs(qx - wx) + abs(qy - wy) < spread * np.float32(0.012):
                    continue
                limit = best * np.float32(keep)
                total = _cost_over(
                    chosen[y, x], keep, limit, tex, bases, sw, sh, H, HB, px, py, q, qx, qy, value, weight, var, ox, oy, index,
                    fx, fy,
                )  # fmt: skip
                tested += 1
                if total < limit:
                    best = total / np.float32(keep)
                    w = q
                    wx = qx
                    wy = qy
                    for k in range(keep):
                        mine[k] = chosen[y, x, k]
            scale = np.float32(1.0)
            for _r in range(refine):
                state, a = _random(state)
                state, b = _random(state)
                state, c = _random(state)
                step = spread * scale
                q = w + (a - np.float32(0.5)) * step * np.float32(2.0)
                qx = wx + (b - np.float32(0.5)) * step * np.float32(0.25)
                qy = wy + (c - np.float32(0.5)) * step * np.float32(0.25)
                scale *= np.float32(0.45)
                if q < low or q > top:
                    continue
                limit = best * np.float32(keep)
                total = _cost_over(
                    mine, keep, limit, tex, bases, sw, sh, H, HB, px, py, q, qx, qy, value, weight, var, ox, oy, index,
                    fx, fy,
                )  # fmt: skip
                if total < limit:
                    best = total / np.float32(keep)
                    w = q
                    wx = qx
                    wy = qy
            plane[j, i, 0] = w
            plane[j, i, 1] = wx
            plane[j, i, 2] = wy
            cost[j, i] = best
            for k in range(keep):
                chosen[j, i, k] = mine[k]


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def score(ref, active, plane, cost, chosen, tex, bases, sw, sh, H, HB, views, keep, sigma_color, smallest_var):
    """Cost and best views of every pixel's present plane, in place."""
    height, width = ref.shape
    ox = OFFSETS[:, 0].copy()
    oy = OFFSETS[:, 1].copy()
    for j_ in prange(height):
        j = np.int64(j_)
        value = np.empty(32, np.float32)
        weight = np.empty(32, np.float32)
        index = np.empty(32, np.int32)
        fx = np.empty(32, np.float32)
        fy = np.empty(32, np.float32)
        costs = np.empty(64, np.float32)
        mine = np.empty(8, np.int64)
        for i in range(width):
            if not active[j, i]:
                cost[j, i] = WORST
                continue
            _, var = _window(ref, j, i, sigma_color, ox, oy, value, weight)
            if var < smallest_var:
                var = np.float32(smallest_var)
            _score_all(
                tex, bases, sw, sh, H, HB, views, np.float32(i), np.float32(j), plane[j, i, 0], plane[j, i, 1],
                plane[j, i, 2], value, weight, var, ox, oy, index, fx, fy, costs,
            )  # fmt: skip
            cost[j, i] = _best(costs, views, keep, mine)
            for k in range(keep):
                chosen[j, i, k] = mine[k]
