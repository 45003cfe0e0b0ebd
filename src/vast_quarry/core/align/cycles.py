"""Pairs of photos that contradict the others: their matches do not close the loops through third photos.

Two photos that were matched by what merely repeats (a pattern, a mark that moves with the camera) agree on an epipolar
geometry of their own, but a place followed through a third photo ends elsewhere than where the pair says.

References
----------
Zach, C., Klopschitz, M., Pollefeys, M. (2010). Disambiguating visual relations using loop constraints. CVPR.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.tracks import loops, match_graph

Matches = dict[tuple[int, int], NDArray[np.int32]]

#: broken loops that a pair is judged by at least, and the share of its loops from which it is not believed. Measured on
#: sets of the practice rig (docs/alignment.md): right pairs break 16 % of theirs at most
FEWEST_LOOPS, BROKEN = 20, 0.5


def broken_share(
    xy: Sequence[NDArray[np.float32]], matches: Matches, off: float
) -> tuple[list[tuple[int, int]], NDArray[np.int64], NDArray[np.float64]]:
    """How many loops the matches of each pair take part in, and the share that they break.

    Parameters
    ----------
    xy : list of (N_i, 2)
        Features of each photo in pixels.
    matches : dict
        ``(i, j)`` to (K, 2) feature numbers.
    off : float
        Pixels from which two places are not the same.

    Returns
    -------
    pairs : list of (int, int)
    count : (P,) int
    share : (P,) float
        0 where there are none.
    """
    some = {k: m for k, m in matches.items() if len(m)}
    if not some:
        return [], np.zeros(0, np.int64), np.zeros(0)
    g = match_graph([len(x) for x in xy], some)
    offset = np.concatenate([[0], np.cumsum([len(x) for x in xy])])
    place = np.concatenate([np.asarray(x, np.float32) for x in xy])[offset[g.photo] + g.feature]
    closed, broken = loops(g.begin, g.near, g.photo, place, g.a, g.b, off)
    which = np.repeat(np.arange(len(some)), [len(m) for m in some.values()])
    shut, open_ = (np.bincount(which, weights=x, minlength=len(some)) for x in (closed, broken))
    return list(some), (shut + open_).astype(np.int64), open_ / np.maximum(shut + open_, 1)


def contradicted(xy: Sequence[NDArray[np.float32]], matches: Matches, off: float) -> set[tuple[int, int]]:
    """Pairs whose matches break more loops than they close (arguments as :func:`broken_share`).

    A false pair breaks the loops of right ones too: the worst goes first, and the others are judged without it.
    """
    left = dict(matches)
    out: set[tuple[int, int]] = set()
    while True:
        pairs, count, share = broken_share(xy, left, off)
        bad = [k for k in range(len(pairs)) if count[k] * share[k] >= FEWEST_LOOPS and share[k] > BROKEN]
        if not bad:
            return out
        # those clearly worse than the rest go together
        worst = max(share[k] for k in bad)
        for k in bad:
            if share[k] > 0.9 * worst:
                out.add(pairs[k])
                del left[pairs[k]]
