"""Loops of the plane sweep: likeness of windows at every depth, and costs carried along eight paths.

Costs are one minus correlation, 0 (same) to 2, in 127 steps to the unit.
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import cv2
import numpy as np
from numba import njit

#: pixels of a window to each side
HALF = 3
#: steps of a cost to the unit
UNIT = 127.0


@njit(error_model="numpy", cache=True, fastmath=True)
def _warped(tex, base, sw, sh, A, b, w, out, seen):
    """A source photo as the reference would see it if all lay at inverse depth ``w``, greys about 0; ``seen`` 1 where it is in the photo.

    In three passes over a line (places, loads, sums), of which the first and the last run in vector lanes.
    """
    height, width = out.shape
    at = np.empty(width, np.int32)
    right = np.empty(width, np.float32)
    down = np.empty(width, np.float32)
    four = np.empty(width, np.int32)
    last_u, last_v = np.float32(sw - 1.001), np.float32(sh - 1.001)
    zero, one = np.float32(0.0), np.float32(1.0)
    for y in range(height):
        u0 = A[1] * y + A[2] + w * b[0]
        v0 = A[4] * y + A[5] + w * b[1]
        z0 = A[7] * y + A[8] + w * b[2]
        for x in range(width):
            z = A[6] * x + z0
            inverse = one / (z if z > zero else np.float32(1e-9))
            u = (A[0] * x + u0) * inverse
            v = (A[3] * x + v0) * inverse
            cu = min(max(u, zero), last_u)
            cv = min(max(v, zero), last_v)
            seen[y, x] = one if (cu == u and cv == v and z > zero) else zero
            i, j = np.int32(cu), np.int32(cv)
            at[x] = j * np.int32(sw) + i
            right[x] = cu - np.float32(i)
            down[x] = cv - np.float32(j)
        for x in range(width):
            four[x] = tex[base + at[x]]
        for x in range(width):
            t = four[x]
            a, c = np.float32(t & 255), np.float32((t >> 8) & 255)
            d, e = np.float32((t >> 16) & 255), np.float32((t >> 24) & 255)
            top = a + right[x] * (c - a)
            out[y, x] = top + down[x] * (d + right[x] * (e - d) - top) - np.float32(128.0)


@njit(error_model="numpy", cache=True, fastmath=True)
def _compared(ref, mean, spread, warped, seen, noise, scale, out):
    """One minus the correlation of windows (H, W) of two pictures; 9 where the second was not ``seen``.

    ``mean`` and ``spread`` are those of the reference's windows (:func:`_moments`); ``scale`` (W + H) makes sums at the rim whole.
    """
    h, w = ref.shape
    pad = HALF
    one = np.zeros(w + 2 * pad, np.float32)
    two = np.zeros(w + 2 * pad, np.float32)
    mixed = np.zeros(w + 2 * pad, np.float32)
    n = np.float32(1.0 / (2 * HALF + 1) ** 2)
    for y in range(-HALF, h):
        if y + HALF < h:
            for x in range(w):
                q = warped[y + HALF, x]
                one[x + pad] += q
                two[x + pad] += q * q
                mixed[x + pad] += q * ref[y + HALF, x]
        if y - HALF - 1 >= 0:
            for x in range(w):
                q = warped[y - HALF - 1, x]
                one[x + pad] -= q
                two[x + pad] -= q * q
                mixed[x + pad] -= q * ref[y - HALF - 1, x]
        if y < 0:
            continue
        for x in range(w):
            k = scale[x] * scale[w + y] * n
            s1 = one[x] + one[x + 1] + one[x + 2] + one[x + 3] + one[x + 4] + one[x + 5] + one[x + 6]
            s2 = two[x] + two[x + 1] + two[x + 2] + two[x + 3] + two[x + 4] + two[x + 5] + two[x + 6]
            s3 = mixed[x] + mixed[x + 1] + mixed[x + 2] + mixed[x + 3] + mixed[x + 4] + mixed[x + 5] + mixed[x + 6]
            s1 *= k
            own = max(s2 * k - s1 * s1, np.float32(0.0)) + noise
            c = np.float32(1.0) - (s3 * k - mean[y, x] * s1) / np.sqrt(spread[y, x] * own)
            out[y, x] = c if seen[y, x] > np.float32(0.5) else np.float32(9.0)


def moments(ref, noise):
    """Mean of each window (H, W) of the reference, its variance and that of noise together, and what makes sums at the rim whole (W + H,)."""
    size = (2 * HALF + 1, 2 * HALF + 1)
    count = cv2.boxFilter(np.ones_like(ref), -1, size, normalize=False, borderType=cv2.BORDER_CONSTANT)
    mean = cv2.boxFilter(ref, -1, size, normalize=False, borderType=cv2.BORDER_CONSTANT) / count
    square = cv2.boxFilter(ref * ref, -1, size, normalize=False, borderType=cv2.BORDER_CONSTANT) / count
    h, w = ref.shape
    full = np.float32(2 * HALF + 1)
    x, y = np.arange(w), np.arange(h)
    across = full / (np.minimum(x + HALF, w - 1) - np.maximum(x - HALF, 0) + 1)
    along = full / (np.minimum(y + HALF, h - 1) - np.maximum(y - HALF, 0) + 1)
    return mean, np.maximum(square - mean * mean, 0) + noise, np.concatenate([across, along]).astype(np.float32)


@njit(error_model="numpy", cache=True, fastmath=True)
def _better_half(each, out, d):
    """Mean of the better half of what photos (S, H, W) say, into plane ``d`` of costs (H, W, D); undecided where none sees a pixel."""
    count, h, w = each.shape
    best = np.empty(count, np.float32)
    for y in range(h):
        for x in range(w):
            known = 0
            for s in range(count):
                c = each[s, y, x]
                if c > 8.0:
                    continue
                k = known
                while k > 0 and best[k - 1] > c:
                    best[k] = best[k - 1]
                    k -= 1
                best[k] = c
                known += 1
            if known == 0:
                out[y, x, d] = np.uint8(UNIT)
                continue
            half = (known + 1) // 2
            total = np.float32(0.0)
            for k in range(half):
                total += best[k]
            out[y, x, d] = np.uint8(min(max(total / half, np.float32(0.0)), np.float32(2.0)) * np.float32(UNIT))


@njit(error_model="numpy", cache=True, fastmath=True)
def volume(ref, mean, spread, scale, tex, bases, widths, heights, A, b, depths, noise, cost):
    """Cost (H, W, D) uint8 of each pixel at each inverse depth: the mean of the better half of the photos that show it.

    Parameters
    ----------
    ref : (H, W) float32
        Greys about 0; ``mean``, ``spread`` and ``scale`` as :func:`moments` gives them.
    tex, bases, widths, heights, A, b
        Other photos, packed (:class:`.sources.Sources`): a pixel p at inverse depth w lands at ``A p + w b``.
    depths : (D,) float32
        Inverse depths.
    noise : float
        Variance of noise: windows that vary by no more say nothing.
    """
    h, w = ref.shape
    warped, seen = np.empty((h, w), np.float32), np.empty((h, w), np.float32)
    each = np.empty((len(A), h, w), np.float32)
    for d in range(len(depths)):
        for s in range(len(A)):
            _warped(tex, bases[s], widths[s], heights[s], A[s], b[s], depths[d], warped, seen)
            _compared(ref, mean, spread, warped, seen, noise, scale, each[s])
        _better_half(each, cost, d)


@njit(error_model="numpy", cache=True, fastmath=True)
def _step(cost, before, least, small, large, out):
    """One pixel's costs along a path, from those of the pixel before (D,), whose least is ``least``; the least comes back."""
    count = cost.shape[0]
    most = least + large
    now = np.float32(1e9)
    for d in range(count):
        c = min(before[d + 1], most)
        c = min(c, before[d] + small)
        c = min(c, before[d + 2] + small)
        c = np.float32(cost[d]) + c - least
        out[d + 1] = c
        now = min(now, c)
    return now


@njit(error_model="numpy", cache=True, fastmath=True)
def carried(cost, gray, small, large, fade, total):
    """Costs (H, W, D) summed up along eight paths into ``total`` (H, W, D) float32 (Hirschmueller 2008).

    A step of one depth costs ``small``, a larger one ``large``, less across edges: divided by one plus the grey step over ``fade``.
    """
    h, w, count = cost.shape
    big = np.float32(1e6)
    for direction in range(4):
        dx = (1, 0, 1, -1)[direction]
        dy = (0, 1, 1, 1)[direction]
        for way in (1, -1):
            sx, sy = dx * way, dy * way
            # of the line before and of this one, one pixel more on each side and one depth more at each end
            lines = np.full((2, w + 2, count + 2), big, np.float32)
            leasts = np.zeros((2, w + 2), np.float32)
            for line in range(h):
                y = line if sy >= 0 and not (dy == 0 and way < 0) else h - 1 - line
                here, there = line % 2, (line + 1) % 2
                for column in range(w):
                    x = column if sx >= 0 else w - 1 - column
                    py, px = y - sy, x - sx
                    out = lines[here, x + 1]
                    if px < 0 or px >= w or py < 0 or py >= h:
                        now = big
                        for d in range(count):
                            out[d + 1] = np.float32(cost[y, x, d])
                            now = min(now, out[d + 1])
                        leasts[here, x + 1] = now
                    else:
                        which = here if dy == 0 else there
                        step = abs(np.float32(gray[y, x]) - np.float32(gray[py, px]))
                        most = max(large / (np.float32(1.0) + step / fade), small * np.float32(1.5))
                        leasts[here, x + 1] = _step(
                            cost[y, x], lines[which, px + 1], leasts[which, px + 1], small, most, out
                        )
                    for d in range(count):
                        total[y, x, d] += out[d + 1]


@njit(error_model="numpy", cache=True)
def chosen(total, cost, at, sure):
    """The depth with the least sum, between its neighbours by a parabola (H, W), and the cost there (H, W)."""
    h, w, count = total.shape
    for y in range(h):
        for x in range(w):
            best = 0
            for d in range(count):
                if total[y, x, d] < total[y, x, best]:
                    best = d
            off = 0.0
            if 0 < best < count - 1:
                a, b, c = total[y, x, best - 1], total[y, x, best], total[y, x, best + 1]
                bend = a - 2 * b + c
                if bend > 1e-6:
                    off = min(max(0.5 * (a - c) / bend, -0.5), 0.5)
            at[y, x] = best + off
            sure[y, x] = cost[y, x, best] / UNIT


@njit(error_model="numpy", cache=True, fastmath=True)
def relaxed(at, sure, gray, fade, apart, firm, turns):
    """Depths in steps (H, W) led evenly across what windows say nothing of, in place.

    Each goes to the mean of its neighbours and of what its own window says, by how sure that is: what is unsure becomes harmonic
    between what is sure, as a plane is (Gauss-Seidel with over-relaxation, in the colours of a checkerboard). Neighbours more than
    ``apart`` steps off are of another surface; across edges of ``fade`` grey levels they count half. ``firm`` is how much a sure
    window counts against one neighbour.
    """
    h, w = at.shape
    own = at.copy()
    for _ in range(turns):
        for color in (0, 1):
            for y in range(h):
                for x in range((y + color) % 2, w, 2):
                    trust = max(np.float32(0.0), np.float32(1.0) - sure[y, x] / np.float32(0.9))
                    c = firm * trust * trust + np.float32(1e-4)
                    total, weight = c * own[y, x], c
                    here = at[y, x]
                    for k in range(4):
                        j, i = y + (0, 0, 1, -1)[k], x + (1, -1, 0, 0)[k]
                        if j < 0 or i < 0 or j >= h or i >= w or abs(at[j, i] - here) > apart:
                            continue
                        g = np.float32(1.0) / (
                            np.float32(1.0) + abs(np.float32(gray[y, x]) - np.float32(gray[j, i])) / fade
                        )
                        total += g * at[j, i]
                        weight += g
                    at[y, x] = here + np.float32(1.6) * (total / weight - here)
