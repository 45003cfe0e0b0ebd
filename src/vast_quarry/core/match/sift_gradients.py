"""Numba kernels that describe features; what they do and why stands in :mod:`vast_quarry.core.match.sift`.

Pictures, places and the way loops are written are as in :mod:`.sift_kernels`.
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import numpy as np
from numba import njit

#: directions of the histogram that turns a feature upright; cells along a side and directions in a cell of its descriptor
TURNS, CELLS, WAYS = 36, 4, 8
#: from one cell to that across and to that below, with a rim of cells and one direction more
ACROSS, DOWN = WAYS + 2, (CELLS + 2) * (WAYS + 2)


@njit(error_model="numpy", cache=True, inline="always", fastmath=True)
def _angle(dy, dx):
    """Angle of a gradient in radians, 0 to 2 pi, within 2e-4 (odd polynomial of the smaller over the larger side)."""
    ax, ay = abs(dx), abs(dy)
    q = min(ax, ay) / (max(ax, ay) + np.float32(1e-12))
    s = q * q
    a = (
        ((np.float32(-0.04432655552) * s + np.float32(0.15557865186)) * s - np.float32(0.32580839742)) * s
        + np.float32(0.99978784124)
    ) * q
    a = np.float32(np.pi / 2) - a if ay > ax else a
    a = np.float32(np.pi) - a if dx < 0 else a
    return np.float32(2 * np.pi) - a if dy < 0 else a


@njit(error_model="numpy", cache=True, fastmath=True)
def _polar(dx, dy, angle, size):
    """Angles and sizes of gradients."""
    for x in range(len(dx)):
        angle[x] = _angle(dy[x], dx[x])
        size[x] = np.sqrt(dx[x] * dx[x] + dy[x] * dy[x])


@njit(error_model="numpy", cache=True, fastmath=True)
def _row_of(picture, y, first, count, dx, dy):
    """Gradients of ``count`` pixels of a row, from ``first``."""
    left, right = picture[y, first - 1 :], picture[y, first + 1 :]
    above, below = picture[y - 1, first:], picture[y + 1, first:]
    for x in range(count):
        dx[x] = right[x] - left[x]
        dy[x] = below[x] - above[x]


@njit(error_model="numpy", cache=True, fastmath=True)
def _shares(column, row, turned, angle, size, at, share):
    """Which cell (N,) int32 each pixel falls on, and what it gives to the eight about it (8, N)."""
    most, none = np.float32(CELLS + 1), np.float32(0.0)
    ways, whole = np.float32(WAYS / (2 * np.pi)), np.float32(WAYS)
    a0, b0, c0, d0, a1, b1, c1, d1 = share[0], share[1], share[2], share[3], share[4], share[5], share[6], share[7]
    for x in range(len(at)):
        ok = (column[x] > 0) & (column[x] < most) & (row[x] > 0) & (row[x] < most)
        weight = size[x] if ok else none
        v = row[x] if ok else none
        u = column[x] if ok else none
        way = turned - angle[x] * ways
        way = way + whole if way < 0 else way
        i, j, k = np.int32(v), np.int32(u), np.int32(way)
        fi, fj, fk = v - np.float32(i), u - np.float32(j), way - np.float32(k)
        at[x] = i * DOWN + j * ACROSS + (k & (WAYS - 1))
        w1 = weight * fi
        w0 = weight - w1
        w11, w01 = w1 * fj, w0 * fj
        w10, w00 = w1 - w11, w0 - w01
        m00, m01, m10, m11 = w00 * fk, w01 * fk, w10 * fk, w11 * fk
        a0[x], b0[x], c0[x], d0[x] = w00 - m00, w01 - m01, w10 - m10, w11 - m11
        a1[x], b1[x], c1[x], d1[x] = m00, m01, m10, m11


@njit(error_model="numpy", cache=True, fastmath=True)
def _add(at, share, cell):
    """Give each cell what falls to it."""
    a0, b0, c0, d0, a1, b1, c1, d1 = share[0], share[1], share[2], share[3], share[4], share[5], share[6], share[7]
    for x in range(len(at)):
        k = at[x]
        cell[k] += a0[x]
        cell[k + 1] += a1[x]
        cell[k + ACROSS] += b0[x]
        cell[k + ACROSS + 1] += b1[x]
        cell[k + DOWN] += c0[x]
        cell[k + DOWN + 1] += c1[x]
        cell[k + DOWN + ACROSS] += d0[x]
        cell[k + DOWN + ACROSS + 1] += d1[x]


@njit(error_model="numpy", cache=True, fastmath=True)
def directions(picture, places, share, out):
    """Directions of features: the peaks of a histogram of gradients about them.

    Parameters
    ----------
    picture : (H, W) float32
        The layer in which the features were found.
    places : (N, 3) float32
        X, Y and scale in pixels of the layer.
    share : float
        Peaks that reach this share of the highest give a direction of their own.
    out : (N, 4) float32
        Gets the directions in radians (y points down), nan for none.
    """
    high, wide = picture.shape
    raw = np.empty(TURNS + 4, np.float32)
    smooth = np.empty(TURNS, np.float32)
    turn, half = np.float32(TURNS / (2 * np.pi)), np.float32(0.5)
    fall_x = np.empty(wide, np.float32)
    flat = np.empty((5, 64), np.float32)
    for n in range(len(places)):
        x0, y0 = int(np.round(places[n, 0])), int(np.round(places[n, 1]))
        soft = 1.5 * places[n, 2]
        reach = int(np.round(3.0 * soft))
        fall = np.float32(-0.5 / (soft * soft))
        first = max(1, x0 - reach)
        count = min(wide - 1, x0 + reach + 1) - first
        for x in range(count):
            fall_x[x] = np.exp(np.float32((first + x - x0) ** 2) * fall)
        if (2 * reach + 1) ** 2 > flat.shape[1]:
            flat = np.empty((5, (2 * reach + 1) ** 2), np.float32)
        dx, dy, angle, size, weight = flat[0], flat[1], flat[2], flat[3], flat[4]
        held = 0
        for y in range(max(1, y0 - reach), min(high - 1, y0 + reach + 1)):
            fall_y = np.exp(np.float32((y - y0) ** 2) * fall)
            _row_of(picture, y, first, count, dx[held:], dy[held:])
            here = weight[held:]
            for x in range(count):
                here[x] = fall_x[x] * fall_y
            held += count
        _polar(dx[:held], dy[:held], angle[:held], size[:held])
        raw[:] = 0.0
        for x in range(held):
            b = int(angle[x] * turn + half)
            raw[(b if b < TURNS else b - TURNS) + 2] += weight[x] * size[x]
        raw[0], raw[1] = raw[TURNS], raw[TURNS + 1]
        raw[TURNS + 2], raw[TURNS + 3] = raw[2], raw[3]
        top = np.float32(0.0)
        for b in range(TURNS):
            smooth[b] = (raw[b] + raw[b + 4]) / 16 + (raw[b + 1] + raw[b + 3]) / 4 + raw[b + 2] * np.float32(0.375)
            top = max(top, smooth[b])
        out[n] = np.nan
        held = 0
        for b in range(TURNS):
            left, here, right = smooth[b - 1], smooth[b], smooth[(b + 1) % TURNS]
            if here > left and here > right and here >= share * top and held < out.shape[1]:
                peak = b + 0.5 * (left - right) / (left - 2 * here + right)
                out[n, held] = (peak % TURNS) / turn
                held += 1


@njit(error_model="numpy", cache=True, fastmath=True)
def describe(picture, places, out):
    """Descriptors of features: histograms of gradients in 4 x 4 cells about them, each in the feature's own direction.

    Parameters
    ----------
    picture : (H, W) float32
        The layer in which the features were found.
    places : (N, 4) float32
        X, Y, scale in pixels of the layer, direction in radians.
    out : (N, 128) float32
        Gets the histograms: row, column, direction (counted from x towards the top, as OpenCV's); large values cut at a
        fifth of their length (Lowe 2004, section 6.1).
    """
    high, wide = picture.shape
    # a rim of cells takes what falls beside the sixteen
    cell = np.zeros((CELLS + 2) * DOWN, np.float32)
    ways, middle = np.float32(WAYS / (2 * np.pi)), np.float32(CELLS / 2 + 0.5)
    fall_x = np.empty(wide, np.float32)
    flat, share, at = np.empty((6, 64), np.float32), np.empty((8, 64), np.float32), np.empty(64, np.int32)
    for n in range(len(places)):
        px, py = places[n, 0], places[n, 1]
        side = np.float32(3.0) * places[n, 2]
        reach = min(int(np.round(side * 1.4142135 * (CELLS + 1) * 0.5)), max(high, wide))
        c, s = np.cos(places[n, 3]) / side, np.sin(places[n, 3]) / side
        x0, y0 = int(np.round(px)), int(np.round(py))
        first, last = max(1, x0 - reach), min(wide - 2, x0 + reach)
        fall = np.float32(-2.0 / (CELLS * CELLS)) / (side * side)
        for x in range(last + 1 - first):
            u = np.float32(first + x) - px
            fall_x[x] = np.exp(u * u * fall)
        if (2 * reach + 1) ** 2 > flat.shape[1]:
            most = (2 * reach + 1) ** 2
            flat, share, at = np.empty((6, most), np.float32), np.empty((8, most), np.float32), np.empty(most, np.int32)
        dx, dy, columns, rows, angle, size = flat[0], flat[1], flat[2], flat[3], flat[4], flat[5]
        held = 0
        for y in range(max(1, y0 - reach), min(high - 2, y0 + reach) + 1):
            v = np.float32(y) - py
            fall_y = np.exp(v * v * fall)
            # columns whose turned place lies on the grid of cells
            lo, hi = np.float32(first) - px, np.float32(last) - px
            if abs(c) > 1e-9:
                a, b = (-middle - v * s) / c, (middle - v * s) / c
                lo, hi = max(lo, min(a, b)), min(hi, max(a, b))
            if abs(s) > 1e-9:
                a, b = (v * c - middle) / s, (v * c + middle) / s
                lo, hi = max(lo, min(a, b)), min(hi, max(a, b))
            begin = max(first, int(np.ceil(lo + px)))
            count = min(last, int(np.floor(hi + px))) + 1 - begin
            if count <= 0:
                continue
            u = np.float32(begin) - px
            column, row = u * c + v * s + middle, v * c - u * s + middle
            line, above, below = picture[y], picture[y - 1], picture[y + 1]
            for x in range(begin, begin + count):
                # what falls off towards the rim falls off in both sides of the gradient alike
                weight = fall_x[x - first] * fall_y
                dx[held] = (line[x + 1] - line[x - 1]) * weight
                dy[held] = (below[x] - above[x]) * weight
                columns[held] = column
                rows[held] = row
                column += c
                row -= s
                held += 1
        _polar(dx[:held], dy[:held], angle[:held], size[:held])
        _shares(columns[:held], rows[:held], places[n, 3] * ways, angle[:held], size[:held], at[:held], share)
        cell[:] = 0.0
        _add(at[:held], share, cell)
        total = np.float32(0.0)
        for i in range(CELLS):
            for j in range(CELLS):
                to = (i + 1) * DOWN + (j + 1) * ACROSS
                cell[to] += cell[to + WAYS]
                for k in range(WAYS):
                    total += cell[to + k] * cell[to + k]
        cut = np.float32(0.2) * np.sqrt(total)
        for i in range(CELLS):
            for j in range(CELLS):
                for k in range(WAYS):
                    out[n, (i * CELLS + j) * WAYS + k] = min(cell[(i + 1) * DOWN + (j + 1) * ACROSS + k], cut)
