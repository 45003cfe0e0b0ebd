"""Nearest-neighbour matching of RootSIFT: mutual, with the ratio test, exact.

The similarity of all descriptors of two photos is one matrix product, done in bands so that memory stays bounded;
a numba kernel keeps the best two of each row and the best of each column. With unit vectors the squared distance is
``2 - 2 s``, so Lowe's ratio test ``d1 < r d2`` reads ``1 - s1 < r^2 (1 - s2)``.

References
----------
Lowe, D. G. (2004). Distinctive image features from scale-invariant keypoints. IJCV 60(2), 91-110.
Wu, C. (2013). Towards linear-time incremental structure from motion. 3DV (preemptive matching of coarse features).
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

BAND = 1024


@njit(error_model="numpy", cache=True, fastmath=True)
def _scan(block, row0, best, second, best_at, col_best, col_at):  # type: ignore[no-untyped-def]
    for i in range(block.shape[0]):
        b1 = np.float32(-1.0)
        b2 = np.float32(-1.0)
        at = -1
        for j in range(block.shape[1]):
            s = block[i, j]
            if s > b2:
                if s > b1:
                    b2 = b1
                    b1 = s
                    at = j
                else:
                    b2 = s
            if s > col_best[j]:
                col_best[j] = s
                col_at[j] = row0 + i
        best[row0 + i] = b1
        second[row0 + i] = b2
        best_at[row0 + i] = at


def unit_descriptors(packed: NDArray[np.uint8]) -> NDArray[np.float32]:
    """Packed descriptors (N, 128) as unit float32 vectors."""
    d = packed.astype(np.float32)
    return d / np.maximum(np.linalg.norm(d, axis=1, keepdims=True), 1e-6)


def flipped(descriptors: NDArray[np.float32]) -> NDArray[np.float32]:
    """What the descriptors (N, 128) of a photo become when it is flipped left to right.

    A descriptor has 4 rows and 4 columns of 8 directions, in the frame of its own direction: flipping exchanges one side of
    that direction with the other, and turns each direction about it.
    """
    d = descriptors.reshape(-1, 4, 4, 8)
    return np.ascontiguousarray(d[:, ::-1, :, -np.arange(8) % 8].reshape(-1, 128))


def match_mutual(a: NDArray[np.float32], b: NDArray[np.float32], ratio: float = 0.85) -> NDArray[np.int32]:
    """Mutual nearest neighbours that pass the ratio test.

    Parameters
    ----------
    a : (N, 128) and b : (M, 128)
        Unit descriptors of two photos.
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
    best, second = np.empty(n, np.float32), np.empty(n, np.float32)
    best_at, col_at = np.empty(n, np.int64), np.full(m, -1, np.int64)
    col_best = np.full(m, -1.0, np.float32)
    for row in range(0, n, BAND):
        _scan(a[row : row + BAND] @ b.T, row, best, second, best_at, col_best, col_at)
    rows = np.arange(n)
    keep = (col_at[best_at] == rows) & ((1.0 - best) < ratio * ratio * (1.0 - second))
    return np.stack([rows[keep], best_at[keep]], 1).astype(np.int32)


def match_plain(a: NDArray[np.float32], b: NDArray[np.float32], ratio: float = 0.85) -> NDArray[np.int32]:
    """The same in a few lines of numpy, for the tests."""
    s = a @ b.T
    order = np.argsort(-s, axis=1)
    rows = np.arange(len(a))
    s1, s2 = s[rows, order[:, 0]], s[rows, order[:, 1]]
    mutual = s.argmax(0)[order[:, 0]] == rows
    keep = mutual & ((1 - s1) < ratio**2 * (1 - s2))
    return np.stack([rows[keep], order[keep, 0]], 1).astype(np.int32)


def coarse_subset(scale: NDArray[np.float32], count: int) -> NDArray[np.int64]:
    """Indices of the ``count`` features of largest scale: few, far-seeing, good for judging overlap."""
    return np.argsort(-scale, kind="stable")[:count]
