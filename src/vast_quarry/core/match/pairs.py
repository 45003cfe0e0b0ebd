"""Which photos to match with which: a quick look at the coarsest features of every pair decides.

References
----------
Wu, C. (2013). Towards linear-time incremental structure from motion. 3DV.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def choose_pairs(likeness: NDArray[np.int64], enough: int = 8, partners: int = 14) -> list[tuple[int, int]]:
    """Pairs worth matching in full.

    Parameters
    ----------
    likeness : (N, N) int
        Coarse matches between each two photos (upper triangle).
    enough : int
        Coarse matches that make a pair worth a look.
    partners : int
        At most so many best partners are taken for every photo (a pair counts when either wants it); and the best
        four are taken even when they have less than ``enough``.
    """
    n = len(likeness)
    both = np.maximum(likeness, likeness.T).astype(np.int64)
    np.fill_diagonal(both, -1)
    chosen: set[tuple[int, int]] = set()
    for i in range(n):
        order = np.argsort(-both[i], kind="stable")[: min(partners, n - 1)]
        for rank, j in enumerate(order):
            if both[i, j] >= enough or (rank < 4 and both[i, j] >= 3):
                chosen.add((min(i, int(j)), max(i, int(j))))
    return sorted(chosen)
