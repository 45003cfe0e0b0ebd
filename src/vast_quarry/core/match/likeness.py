"""Which photos may show the same, from one vector each: residuals about a small vocabulary learnt from the set (VLAD).

Comparing every two photos by their features grows with the square of their number; one vector each makes that a single
matrix product, and only the nearest ones, and those next to each other in shooting order and in time, are looked at.

References
----------
Jegou, H., Douze, M., Schmid, C., Perez, P. (2010). Aggregating local descriptors into a compact image representation. CVPR.
Arandjelovic, R., Zisserman, A. (2013). All about VLAD. CVPR (normalisation within each word).
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]
Pair = tuple[int, int]

#: words of the vocabulary, and descriptors that it is learnt from
WORDS, SAMPLE = 64, 20_000
#: sets of up to so many photos are compared all with all
FEW = 40
#: nearest photos by their vectors, and neighbours to each side in shooting order and in time, that are looked at
NEAREST, BESIDE = 36, 6


def vocabulary(descriptors: Floats, seed: int = 0) -> Floats:
    """Words (WORDS, 128) learnt from unit descriptors (N, 128) by k-means."""
    rng = np.random.default_rng(seed)
    some = descriptors[rng.choice(len(descriptors), min(SAMPLE, len(descriptors)), replace=False)]
    count = min(WORDS, len(some))
    cv2.setRNGSeed(seed)
    stop = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 20, 1e-4)
    _, _, words = cv2.kmeans(some, count, np.empty(0, np.int32), stop, 1, cv2.KMEANS_PP_CENTERS)
    return np.asarray(words, np.float32)


def vector_of(descriptors: Floats, words: Floats) -> Floats:
    """Unit vector (WORDS * 128,) of one photo from some of its unit descriptors (N, 128)."""
    out = np.zeros(words.shape, np.float32)
    if len(descriptors):
        word = (descriptors @ words.T - 0.5 * (words**2).sum(1)).argmax(1)
        of = (np.arange(len(words))[:, None] == word).astype(np.float32)
        out = of @ descriptors - of.sum(1, keepdims=True) * words
    out /= np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-9)
    flat = out.ravel()
    return np.asarray(flat / max(float(np.linalg.norm(flat)), 1e-9), np.float32)


def candidates(vectors: Floats, orders: Sequence[NDArray[np.int64]] = ()) -> list[Pair]:
    """Pairs of photos worth a look: all of few; of many the nearest by their vectors, and neighbours in each order.

    Parameters
    ----------
    vectors : (N, D)
        One of each photo.
    orders : of (N,) int
        Photos in the order in which they were taken, once or in several ways.
    """
    n = len(vectors)
    if n <= FEW:
        return [(i, j) for i in range(n) for j in range(i + 1, n)]
    like = vectors @ vectors.T
    np.fill_diagonal(like, -np.inf)
    near = np.argsort(-like, axis=1, kind="stable")[:, :NEAREST]
    out = {(min(i, int(j)), max(i, int(j))) for i in range(n) for j in near[i]}
    for order in orders:
        for step in range(1, BESIDE + 1):
            out |= {(int(min(p)), int(max(p))) for p in zip(order[:-step], order[step:])}
    return sorted(out)
