"""Compressed vertex and index streams, as ``EXT_meshopt_compression`` (Khronos glTF extension, ratified) lays them down.

Vertices: bytes of neighbouring vertices are subtracted, and groups of sixteen differences are stored with as few bits as
they need (mode ATTRIBUTES, version 0). Triangles: most share an edge with one of the last sixteen edges, and bring a
vertex that was just used or is the next new one, which takes a byte (mode TRIANGLES, version 1).

Triangles are put in an order of a walk over the surface first: P. Sander, D. Nehab, J. Barczak, "Fast triangle reordering
for vertex locality and reduced overdraw" (SIGGRAPH 2007).
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

#: bytes kept free at the end of a stream of vertices, so that a decoder may read ahead
_TAIL = 32
#: codes of two vertices that a stream of triangles keeps at its end; any sixteen do
_USUAL = bytes((0x00, 0x76, 0x87, 0x56, 0x67, 0x78, 0xA9, 0x86, 0x65, 0x89, 0x68, 0x98, 0x01, 0x69, 0, 0))


@njit(error_model="numpy", cache=True)
def _group(values, out, at):  # type: ignore[no-untyped-def]
    """Sixteen bytes with 0, 2, 4 or 8 bits each; (mode, new end)."""
    largest, over2, over4 = 0, 0, 0
    for v in values:
        largest = max(largest, v)
        over2 += v >= 3
        over4 += v >= 15
    if largest == 0:
        return 0, at
    size2, size4 = 4 + over2, 8 + over4
    if size2 >= 16 and size4 >= 16:
        for k in range(16):
            out[at + k] = values[k]
        return 3, at + 16
    mode = 1 if size2 <= size4 else 2
    bits = 2 if mode == 1 else 4
    full = (1 << bits) - 1
    each = 8 // bits
    for k in range(0, 16, each):
        byte = 0
        for i in range(each):
            byte = (byte << bits) | min(full, values[k + i])
        out[at] = byte
        at += 1
    for k in range(16):
        if values[k] >= full:
            out[at] = values[k]
            at += 1
    return mode, at


@njit(error_model="numpy", cache=True)
def _attributes(data, out):  # type: ignore[no-untyped-def]
    """Fill ``out``; the number of bytes used."""
    n, stride = data.shape
    block = min((8192 // stride) & ~15, 256)
    values = np.zeros(16, np.uint8)
    out[0] = 0xA0
    at = 1
    for start in range(0, n, block):
        end = min(n, start + block)
        groups = (end - start + 15) // 16
        for k in range(stride):
            header = at
            at += (groups + 3) // 4
            for h in range(header, at):
                out[h] = 0
            for g in range(groups):
                for i in range(16):
                    row = start + 16 * g + i
                    if row >= end:
                        values[i] = 0
                        continue
                    before = data[row - 1, k] if row else data[0, k]
                    d = (np.int32(data[row, k]) - np.int32(before)) & 0xFF
                    values[i] = (d << 1) & 0xFF if d < 128 else (((255 - d) << 1) | 1) & 0xFF
                mode, at = _group(values, out, at)
                out[header + g // 4] |= mode << (2 * (g % 4))
    for _ in range(max(0, _TAIL - stride)):
        out[at] = 0
        at += 1
    for k in range(stride):
        out[at] = data[0, k]
        at += 1
    return at


def encode_attributes(data: NDArray) -> bytes:
    """Compress one value for each vertex.

    Parameters
    ----------
    data : (N, ...)
        Any fixed-size type; the bytes of one vertex have to be a multiple of 4, and at most 256.

    Raises
    ------
    ValueError
        When they are not, or there is no vertex.
    """
    if not len(data):
        raise ValueError("there is no vertex")
    rows = np.ascontiguousarray(data).view(np.uint8).reshape(len(data), -1)
    stride = rows.shape[1]
    if stride % 4 or stride > 256:
        raise ValueError(f"{stride} bytes a vertex cannot be stored")
    out = np.empty(1 + len(rows) * stride + (len(rows) // 16 + 32) * stride + _TAIL + stride, np.uint8)
    return out[: _attributes(rows, out)].tobytes()


@njit(error_model="numpy", cache=True)
def _number(value, last, out, at):  # type: ignore[no-untyped-def]
    """A vertex that is neither new nor remembered: its distance from the last such one, seven bits a byte."""
    d = np.int64(value) - np.int64(last)
    v = (d << 1) ^ (d >> 63)
    while v >= 128:
        out[at] = (v & 127) | 128
        v >>= 7
        at += 1
    out[at] = v
    return at + 1


@njit(error_model="numpy", cache=True)
def _triangles(faces, usual, codes, out):  # type: ignore[no-untyped-def]
    """Fill codes (one a triangle) and ``out``; the number of bytes used of the latter."""
    edges = np.full((16, 2), -1, np.int64)
    recent = np.full(16, -1, np.int64)
    e, r = 0, 0  # where the next one goes
    fresh, last, at = 0, 0, 0
    abc = np.zeros(3, np.int64)
    for t in range(len(faces)):
        found, turn = -1, 0
        for i in range(15):
            p, q = edges[(e - 1 - i) & 15]
            for k in range(3):
                if faces[t, k] == p and faces[t, (k + 1) % 3] == q:
                    found, turn = i, k
                    break
            if found >= 0:
                break
        if found >= 0:
            for k in range(3):
                abc[k] = faces[t, (turn + k) % 3]
            a, b, c = int(abc[0]), int(abc[1]), int(abc[2])
            code = 15
            for i in range(13):
                if recent[(r - 1 - i) & 15] == c:
                    code = i
                    break
            if code == 0 or code == 15:
                code = 15
                if c == fresh:
                    code = 0
                    fresh += 1
                elif c + 1 == last:
                    code = 13
                    last = c
                elif c == last + 1:
                    code = 14
                    last = c
            codes[t] = (found << 4) | code
            if code == 15:
                at = _number(c, last, out, at)
                last = c
            if code == 0 or code >= 13:
                recent[r] = c
                r = (r + 1) & 15
            edges[e, 0], edges[e, 1] = c, b
            e = (e + 1) & 15
            edges[e, 0], edges[e, 1] = a, c
            e = (e + 1) & 15
            continue
        turn = 0
        for k in range(3):
            if faces[t, k] == fresh:
                turn = k
                break
        for k in range(3):
            abc[k] = faces[t, (turn + k) % 3]
        first = 15
        if abc[0] == fresh:
            first = 0
            fresh += 1
        pair = np.zeros(2, np.int64)
        for k in range(2):
            v = abc[k + 1]
            pair[k] = 15
            for i in range(14):
                if recent[(r - 1 - i) & 15] == v:
                    pair[k] = i + 1
                    break
            if pair[k] == 15 and v == fresh:
                pair[k] = 0
                fresh += 1
        both = (pair[0] << 4) | pair[1]
        known = -1
        for i in range(14):
            if usual[i] == both:
                known = i
                break
        if first == 0 and known >= 0:
            codes[t] = 0xF0 | known
        else:
            codes[t] = 0xF0 | (14 if first == 0 else 15)
            out[at] = both
            at += 1
        for k in range(3):
            if (first if k == 0 else pair[k - 1]) == 15:
                at = _number(abc[k], last, out, at)
                last = int(abc[k])
        for k in range(3):
            kind = first if k == 0 else pair[k - 1]
            if kind == 0 or kind == 15:
                recent[r] = abc[k]
                r = (r + 1) & 15
        for p, q in ((1, 0), (2, 1), (0, 2)):
            edges[e, 0], edges[e, 1] = abc[p], abc[q]
            e = (e + 1) & 15
    return at


def encode_triangles(faces: NDArray) -> bytes:
    """Compress triangles; each may come out turned (a, b, c as b, c, a), never mirrored.

    Parameters
    ----------
    faces : (M, 3)
        Indices; those that are new come best in rising order (see :func:`in_walking_order`).
    """
    f = np.ascontiguousarray(faces, np.int64)
    codes = np.empty(len(f), np.uint8)
    out = np.empty(16 * len(f) + 16, np.uint8)
    used = _triangles(f, np.frombuffer(_USUAL, np.uint8), codes, out)
    return b"\xe1" + codes.tobytes() + out[:used].tobytes() + _USUAL


@njit(error_model="numpy", cache=True)
def _walk(faces, start, around, order, size):  # type: ignore[no-untyped-def]
    """Fill ``order`` with the triangles as a fan after the other finds them."""
    n = len(start) - 1
    left = np.empty(n, np.int64)
    for v in range(n):
        left[v] = start[v + 1] - start[v]
    stamp = np.zeros(n, np.int64)
    done = np.zeros(len(faces), np.bool_)
    ends = np.empty(3 * len(faces) + 1, np.int64)  # where a walk may go on
    top, cursor, clock, count, v = 0, 0, size + 1, 0, 0
    while v >= 0:
        low = top
        for k in range(start[v], start[v + 1]):
            t = around[k]
            if done[t]:
                continue
            done[t] = True
            order[count] = t
            count += 1
            for c in faces[t]:
                ends[top] = c
                top += 1
                left[c] -= 1
                if clock - stamp[c] > size:
                    stamp[c] = clock
                    clock += 1
        # next: the one of this fan that stays longest in the memory of the card
        best, v = -1, -1
        for k in range(low, top):
            c = ends[k]
            if left[c] > 0:
                priority = 0
                if clock - stamp[c] + 2 * left[c] <= size:
                    priority = clock - stamp[c]
                if priority > best:
                    best, v = priority, c
        while v < 0 and top > 0:
            top -= 1
            if left[ends[top]] > 0:
                v = ends[top]
        while v < 0 and cursor < n:
            if left[cursor] > 0:
                v = cursor
            cursor += 1
    return count


def in_walking_order(faces: NDArray, vertices: int, memory: int = 14) -> tuple[NDArray, NDArray]:
    """Triangles in the order of a walk over the surface, and vertices in the order in which they are met.

    Parameters
    ----------
    faces : (M, 3)
    vertices : int
        Number of vertices.
    memory : int
        Vertices that are remembered on the way.

    Returns
    -------
    faces : (M, 3) int64
        Indices into ``kept``; triangles keep their sense of turning.
    kept : (W,) int64
        Old indices of the vertices that a triangle uses.
    """
    f = np.ascontiguousarray(faces, np.int64)
    corner = f.ravel()
    around = np.argsort(corner, kind="stable") // 3
    start = np.concatenate([[0], np.cumsum(np.bincount(corner, minlength=vertices))])
    order = np.empty(len(f), np.int64)
    walked = f[order[: _walk(f, start, around, order, memory)]].ravel()
    kept, first, inverse = np.unique(walked, return_index=True, return_inverse=True)
    rank = np.empty(len(kept), np.int64)
    by_first = np.argsort(first)
    rank[by_first] = np.arange(len(kept))
    return rank[inverse].reshape(-1, 3), kept[by_first]
