"""A quick first pass of matching: cascade hashing.

Each descriptor gets a code of 128 bits (the sides of 128 random planes through the mean on which it lies) and a short code
of 8 bits in each of six tables. Those that share a short code in any table are candidates; the nearest eight by Hamming
distance of the long codes are compared exactly. That finds about four fifths of what comparing all would (most of the rest
is found again along epipolar lines, :mod:`.guided`), in a tenth of its time.

References
----------
Cheng, J., Leng, C., Wu, J., Cui, H., Lu, H. (2014). Fast and accurate image matching with cascade hashing for 3D
reconstruction. CVPR.
Charikar, M. (2002). Similarity estimation techniques from rounding algorithms. STOC (sides of random planes).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

#: tables, bits of a short code, candidates that are compared exactly
TABLES, SHORT, NEAREST = 6, 8, 8


@dataclass(frozen=True)
class Codes:
    """Codes of the descriptors of one photo.

    Attributes
    ----------
    long : (N, 2) uint64
    short : (TABLES, N) uint8
    """

    long: NDArray[np.uint64]
    short: NDArray[np.uint8]


def planes(seed: int = 0) -> NDArray[np.float32]:
    """The random planes (128, 128 + TABLES * SHORT); the same for all photos."""
    return np.random.default_rng(seed).standard_normal((128, 128 + TABLES * SHORT)).astype(np.float32)


def codes_of(descriptors: NDArray[np.float32], mean: NDArray[np.float32]) -> Codes:
    """Codes of unit descriptors (N, 128) about a mean (128,), which has to be the same for photos that are compared."""
    side = (descriptors - mean) @ planes() > 0
    bits = np.packbits(side, axis=1, bitorder="little")
    long = np.ascontiguousarray(bits[:, :16]).view(np.uint64)
    return Codes(long, np.ascontiguousarray(bits[:, 16:].T))


@njit(error_model="numpy", cache=True)
def _bits_set(x):
    """Number of bits set in a uint64."""
    x = x - ((x >> np.uint64(1)) & np.uint64(0x5555555555555555))
    x = (x & np.uint64(0x3333333333333333)) + ((x >> np.uint64(2)) & np.uint64(0x3333333333333333))
    x = (x + (x >> np.uint64(4))) & np.uint64(0x0F0F0F0F0F0F0F0F)
    return (x * np.uint64(0x0101010101010101)) >> np.uint64(56)


@njit(error_model="numpy", cache=True)
def _tables(short):
    """For every table, descriptors (TABLES, N) sorted by their short code and where each code begins (TABLES, 257)."""
    tables, n = short.shape
    order = np.empty((tables, n), np.int32)
    start = np.zeros((tables, 257), np.int32)
    for t in range(tables):
        for k in range(n):
            start[t, short[t, k] + 1] += 1
        for c in range(256):
            start[t, c + 1] += start[t, c]
        fill = start[t, :256].copy()
        for k in range(n):
            order[t, fill[short[t, k]]] = k
            fill[short[t, k]] += 1
    return order, start


@njit(error_model="numpy", cache=True, fastmath=True)
def _nearest(a, long_a, short_a, b, long_b, order, start, nearest, best, second, at):
    """Best and second similarity of each of ``a`` (N, 128) among its candidates in ``b`` (M, 128), and which is best."""
    n, m = a.shape[0], b.shape[0]
    stamp = np.full(m, -1, np.int32)
    found = np.empty(m + 1, np.int32)
    far = np.empty(m, np.int32)
    at_distance = np.zeros(129, np.int32)
    for i in range(n):
        held = 0
        for t in range(order.shape[0]):
            code = short_a[t, i]
            for k in range(start[t, code], start[t, code + 1]):
                j = order[t, k]
                found[held] = j
                held += stamp[j] != i
                stamp[j] = i
        at_distance[:] = 0
        for k in range(held):
            j = found[k]
            far[k] = np.int32(_bits_set(long_a[i, 0] ^ long_b[j, 0]) + _bits_set(long_a[i, 1] ^ long_b[j, 1]))
            at_distance[far[k]] += 1
        # those nearer than ``last`` all, and of those at it the first that there is room for
        last, room = 0, nearest
        while last < 128 and at_distance[last] <= room:
            room -= at_distance[last]
            last += 1
        b1 = np.float32(-1.0)
        b2 = np.float32(-1.0)
        where = -1
        for k in range(held):
            if far[k] > last:
                continue
            if far[k] == last:
                if room <= 0:
                    continue
                room -= 1
            j = found[k]
            s = np.float32(0.0)
            for c in range(128):
                s += a[i, c] * b[j, c]
            if s > b1:
                b2 = b1
                b1 = s
                where = j
            elif s > b2:
                b2 = s
        best[i] = b1
        second[i] = b2
        at[i] = where


def match_hashed(
    a: NDArray[np.float32], codes_a: Codes, b: NDArray[np.float32], codes_b: Codes, ratio: float = 0.85
) -> NDArray[np.int32]:
    """Mutual nearest neighbours among candidates that share a short code, with the ratio test.

    Parameters
    ----------
    a, b : (N, 128), (M, 128)
        Unit descriptors of two photos, and their codes.
    ratio : float
        Greatest distance to the nearest over that to the second nearest.

    Returns
    -------
    (K, 2) int32
        Indices into ``a`` and ``b``.
    """
    n, m = len(a), len(b)
    if n < 2 or m < 2:
        return np.zeros((0, 2), np.int32)
    best, second, at = np.empty(n, np.float32), np.empty(n, np.float32), np.empty(n, np.int64)
    _nearest(a, codes_a.long, codes_a.short, b, codes_b.long, *_tables(codes_b.short), NEAREST, best, second, at)
    # a lone candidate has nothing to be told from
    rows = np.flatnonzero((second > -1) & ((1.0 - best) < ratio * ratio * (1.0 - second)))
    # back from those that were found only
    theirs = np.unique(at[rows])
    back, worse, back_at = (
        np.empty(len(theirs), np.float32),
        np.empty(len(theirs), np.float32),
        np.empty(len(theirs), np.int64),
    )
    short_b = np.ascontiguousarray(codes_b.short[:, theirs])
    _nearest(
        b[theirs],
        codes_b.long[theirs],
        short_b,
        a,
        codes_a.long,
        *_tables(codes_a.short),
        NEAREST,
        back,
        worse,
        back_at,
    )
    keep = back_at[np.searchsorted(theirs, at[rows])] == rows
    return np.stack([rows[keep], at[rows[keep]]], 1).astype(np.int32)
