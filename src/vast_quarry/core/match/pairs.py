"""Which photos to match with which: a quick look at the coarsest features of every pair decides.

Where photos follow each other closely those most alike show no depth to each other: so part of the places goes to photos
that are less alike, down to a share of the best.

References
----------
Wu, C. (2013). Towards linear-time incremental structure from motion. 3DV.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

#: likeness, against that of the best, down to which partners are spread
FAR = 0.15
#: neighbours on either side in the order in which photos were taken, where they were taken along something
ALONG = 2


def choose_pairs(
    likeness: NDArray[np.int64],
    enough: int = 8,
    partners: int = 14,
    choosing: Iterable[int] | None = None,
    along: Iterable[NDArray[np.int64]] = (),
) -> list[tuple[int, int]]:
    """Pairs worth matching in full.

    Parameters
    ----------
    likeness : (N, N) int
        Coarse matches between each two photos (upper triangle).
    enough : int
        Coarse matches that make a pair worth a look.
    partners : int
        At most so many best partners are taken for every photo (a pair counts when either wants it); and the best
        four are taken even when they have less than ``enough``. Two fifths of the places are spread evenly over those
        that have at least :data:`FAR` of the likeness of the best.
    along : iterable of (N,) int
        Orders in which photos were taken along something: whoever follows in one by up to :data:`ALONG` is looked at too, however
        little alike.
    """
    n = len(likeness)
    both = np.maximum(likeness, likeness.T).astype(np.int64)
    np.fill_diagonal(both, -1)
    chosen: set[tuple[int, int]] = set()
    for i in range(n) if choosing is None else choosing:
        order = np.argsort(-both[i], kind="stable")[: n - 1]
        able = order[both[i, order] >= max(enough, FAR * both[i, order[0]])] if n > 1 else order
        close = partners - partners * 2 // 5
        rest = able[close:]
        spread = (
            rest[np.unique(np.linspace(0, len(rest) - 1, min(partners - close, len(rest))).astype(int))]
            if len(rest)
            else rest
        )
        picked = list(dict.fromkeys([*order[:close].tolist(), *spread.tolist(), *order.tolist()]))[:partners]
        for rank, j in enumerate(picked):
            if both[i, j] >= enough or (rank < 4 and both[i, j] >= 3):
                chosen.add((min(i, int(j)), max(i, int(j))))
    wanted = None if choosing is None else set(choosing)
    for order in along:
        for step in range(1, ALONG + 1):
            for i, j in zip(order[:-step].tolist(), order[step:].tolist()):
                if wanted is None or i in wanted or j in wanted:
                    chosen.add((min(i, j), max(i, j)))
    return sorted(chosen)
