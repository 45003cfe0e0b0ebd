"""Exposure and white balance of a set, from the same places of the subject as different photos have them.

Each pair of photos says how much brighter one has their common features than the other, channel by channel; the photos'
own offsets are the least-squares solution of all pairs, made robust by weighing down pairs that disagree (iteratively
reweighted, Huber). What a photo shows beside the subject, like a bright sky, has no part in it.

References
----------
Brown, M., Lowe, D. (2007). Automatic panoramic image stitching using invariant features. IJCV 74, sec. 6: gain
compensation over pairs. Sharma, G., Wu, W., Dalal, E. (2005). The CIEDE2000 color-difference formula. Color Research and
Application 30, 21-30.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

#: a pair that misses the solution by more than so many stops counts less
HUBER = 0.08


def tone_offsets(
    count: int, brighter: Mapping[tuple[int, int], Array], weight: Mapping[tuple[int, int], int], rounds: int = 8
) -> Array:
    """Offsets (count, 3) in stops of each photo's channels against the median of the set.

    ``brighter`` holds for pairs (i, j) how much brighter i is; ``weight`` how many places say so. Photos that no pair
    holds get NaN.
    """
    out = np.full((count, 3), np.nan)
    pairs = list(brighter)
    if not pairs:
        return out
    i, j = np.array(pairs).T
    d = np.stack([brighter[p] for p in pairs])
    base = np.sqrt(np.array([weight[p] for p in pairs], float))
    held = np.unique(np.concatenate([i, j]))
    index = np.full(count, -1)
    index[held] = np.arange(len(held))
    a, b = index[i], index[j]
    n = len(held)
    for c in range(3):
        w: Array = base.copy()
        x: Array = np.zeros(n)
        for _ in range(rounds):
            laplace = np.zeros((n, n))
            np.add.at(laplace, (a, a), w)
            np.add.at(laplace, (b, b), w)
            np.add.at(laplace, (a, b), -w)
            np.add.at(laplace, (b, a), -w)
            right = np.zeros(n)
            np.add.at(right, a, w * d[:, c])
            np.add.at(right, b, -w * d[:, c])
            # parts that do not hang together each keep their own middle
            x = np.asarray(np.linalg.lstsq(laplace + 1e-9 * np.eye(n), right, rcond=None)[0], float)
            miss = np.abs(x[a] - x[b] - d[:, c])
            w = base * np.minimum(1.0, HUBER / np.maximum(miss, 1e-9))
        out[held, c] = x - np.median(x)
    return out
