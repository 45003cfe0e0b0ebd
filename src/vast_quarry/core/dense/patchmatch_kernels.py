"""Numba kernels of the multi-view PatchMatch; what they compute stands in :mod:`vast_quarry.core.dense.patchmatch`."""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import numpy as np
from numba import njit, prange

from vast_quarry.core.dense.window_kernels import (
    OFFSETS,
    SAME,
    SAME_SLOPE,
    SLACK,
    WORST,
    cost_over,
    newton,
    score_all,
    window,
)

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


@njit(error_model="numpy", cache=True, inline="always")
def _random(state):
    """xorshift64: next state, and a float in [0, 1)."""
    state ^= state << np.uint64(13)
    state ^= state >> np.uint64(7)
    state ^= state << np.uint64(17)
    return state, np.float32((state >> np.uint64(40)) * (1.0 / 16777216.0))


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def sweep(
    ref, active, near, far, plane, cost, chosen, tex, bases, sw, sh, H, HB, views, keep, color, seed, sigma_color, falloff,
    spread, refine, smallest_var, rescore, steps,
):  # fmt: skip
    """One half sweep over the pixels of one checkerboard colour, in place.

    ``plane`` (H, W, 3) holds inverse depth at the pixel and its slopes along u and v, ``chosen`` (H, W, keep) the
    source views it was best in, ``cost`` (H, W) its cost. ``near`` and ``far`` (H, W) bound the inverse depth from
    above and below. ``rescore``: ask all views anew which of them see the plane best. ``steps``: Newton's steps at the end.
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
        seen = np.empty(32, np.float32)
        slope = np.empty(32, np.float32)
        normal = np.empty(9, np.float32)
        change = np.empty(3, np.float32)
        mine = np.empty(8, np.int64)
        state = (
            np.uint64(seed) * np.uint64(0x9E3779B97F4A7C15)
            + np.uint64(j + 1) * np.uint64(0xBF58476D1CE4E5B9)
            + np.uint64(1)
        )
        for i in range((j + color) % 2, width, 2):
            if not active[j, i]:
                continue
            _, var = window(ref, j, i, sigma_color, falloff, ox, oy, value, weight)
            if var < smallest_var:
                var = np.float32(smallest_var)
            px = np.float32(i)
            py = np.float32(j)
            w = plane[j, i, 0]
            wx = plane[j, i, 1]
            wy = plane[j, i, 2]
            if rescore:
                score_all(
                    tex,
                    bases,
                    sw,
                    sh,
                    H,
                    HB,
                    views,
                    px,
                    py,
                    w,
                    wx,
                    wy,
                    value,
                    weight,
                    var,
                    ox,
                    oy,
                    index,
                    fx,
                    fy,
                    costs,
                )
                best = _best(costs, views, keep, mine)
            else:
                best = cost[j, i]
                for k in range(keep):
                    mine[k] = chosen[j, i, k]
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
                # the same plane to a small part of a pixel: no need to score it again
                if abs(q - w) < spread * SAME and abs(qx - wx) + abs(qy - wy) < spread * SAME_SLOPE:
                    continue
                limit = best * np.float32(keep)
                total = cost_over(
                    chosen[y, x], keep, limit, SLACK, tex, bases, sw, sh, H, HB, px, py, q, qx, qy, value, weight, var, ox, oy, index,
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
                total = cost_over(
                    mine, keep, limit, SLACK, tex, bases, sw, sh, H, HB, px, py, q, qx, qy, value, weight, var, ox, oy, index,
                    fx, fy,
                )  # fmt: skip
                if total < limit:
                    best = total / np.float32(keep)
                    w = q
                    wx = qx
                    wy = qy
            if steps:
                w, wx, wy, total = newton(
                    steps, best * np.float32(keep), spread * np.float32(2.0), low, top, mine, keep, tex, bases, sw, sh, H, HB, px,
                    py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy, seen, slope, normal, change,
                )  # fmt: skip
                best = total / np.float32(keep)
            plane[j, i, 0] = w
            plane[j, i, 1] = wx
            plane[j, i, 2] = wy
            cost[j, i] = best
            for k in range(keep):
                chosen[j, i, k] = mine[k]


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def score(
    ref, active, plane, cost, chosen, tex, bases, sw, sh, H, HB, views, keep, sigma_color, falloff, smallest_var, known
):  # fmt: skip
    """Cost and best views of every pixel's present plane, in place; the cost in the views that are ``chosen`` if these are ``known``."""
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
            _, var = window(ref, j, i, sigma_color, falloff, ox, oy, value, weight)
            if var < smallest_var:
                var = np.float32(smallest_var)
            px = np.float32(i)
            py = np.float32(j)
            if known:
                total = cost_over(
                    chosen[j, i], keep, np.float32(1e9), SLACK, tex, bases, sw, sh, H, HB, px, py, plane[j, i, 0], plane[j, i, 1],
                    plane[j, i, 2], value, weight, var, ox, oy, index, fx, fy,
                )  # fmt: skip
                cost[j, i] = total / np.float32(keep)
                continue
            score_all(
                tex, bases, sw, sh, H, HB, views, px, py, plane[j, i, 0], plane[j, i, 1], plane[j, i, 2], value, weight, var, ox,
                oy, index, fx, fy, costs,
            )  # fmt: skip
            cost[j, i] = _best(costs, views, keep, mine)
            for k in range(keep):
                chosen[j, i, k] = mine[k]


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def polish(
    ref, active, plane, chosen, tex, bases, sw, sh, H, HB, keep, sigma_color, falloff, farthest, smallest_var, steps, first, end
):  # fmt: skip
    """Planes of the lines ``first`` to ``end`` of a map moved, in place, to where larger photos agree best.

    ``ref`` (H', W') and the sources are larger than the map: ``active`` (H, W), ``plane`` (H, W, 3) and ``chosen`` (H, W, keep) are
    those of :func:`sweep`. ``farthest``: change of inverse depth that no step exceeds.
    """
    height, width = active.shape
    ox = OFFSETS[:, 0].copy()
    oy = OFFSETS[:, 1].copy()
    across = np.float32(ref.shape[1]) / np.float32(width)
    down = np.float32(ref.shape[0]) / np.float32(height)
    for j_ in prange(end - first):
        j = np.int64(j_) + first
        value = np.empty(32, np.float32)
        weight = np.empty(32, np.float32)
        index = np.empty(32, np.int32)
        fx = np.empty(32, np.float32)
        fy = np.empty(32, np.float32)
        seen = np.empty(32, np.float32)
        slope = np.empty(32, np.float32)
        normal = np.empty(9, np.float32)
        change = np.empty(3, np.float32)
        mine = np.empty(8, np.int64)
        for i in range(width):
            if not active[j, i]:
                continue
            for k in range(keep):
                mine[k] = chosen[j, i, k]
            # the pixel's place in the larger photo, and the pixel there that holds it
            u = (np.float32(i) + np.float32(0.5)) * across - np.float32(0.5)
            v = (np.float32(j) + np.float32(0.5)) * down - np.float32(0.5)
            at = min(np.int64(u), ref.shape[1] - 1)
            under = min(np.int64(v), ref.shape[0] - 1)
            px = np.float32(at)
            py = np.float32(under)
            wx = plane[j, i, 1] / across
            wy = plane[j, i, 2] / down
            w = plane[j, i, 0] + wx * (px - u) + wy * (py - v)
            _, var = window(ref, under, at, sigma_color, falloff, ox, oy, value, weight)
            if var < smallest_var:
                var = np.float32(smallest_var)
            total = cost_over(
                mine, keep, np.float32(1e9), SLACK, tex, bases, sw, sh, H, HB, px, py, w, wx, wy, value, weight, var, ox, oy, index,
                fx, fy,
            )  # fmt: skip
            w, wx, wy, total = newton(
                steps, total, farthest, w - np.float32(2.0) * farthest, w + np.float32(2.0) * farthest, mine, keep, tex, bases, sw,
                sh, H, HB, px, py, w, wx, wy, value, weight, var, ox, oy, index, fx, fy, seen, slope, normal, change,
            )  # fmt: skip
            plane[j, i, 0] = w - wx * (px - u) - wy * (py - v)
            plane[j, i, 1] = wx * across
            plane[j, i, 2] = wy * down
