"""Rigid motions told apart in matches: what stands still between photos, and what moves before it.

A camera on a stand before which the subject is turned or pushed sees two scenes: the room, whose places stay where they are in the
frame, and the subject. Of one pair that cannot be told from a scene some of which happens not to move; but movements of such a
scene pass through zero, while those of a backdrop are heaped upon it: within a small radius there are then more of them than in the
ring about it, which is three times as large. Where pairs of a set show that, features that stay while others move are backdrop,
also in photos between which nothing moves far enough to tell.

References
----------
Torr, P. (1998). Geometric motion segmentation and model selection. Phil. Trans. R. Soc. A 356 (several motions in one pair).
Tron, R., Vidal, R. (2007). A benchmark for the comparison of 3-D motion segmentation algorithms. CVPR.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Matches = Mapping[tuple[int, int], NDArray[np.int32]]

#: places that move less stand still, in thousandths of the longer side; and in pixels at least
STILL, STILL_PX = 0.7, 0.45
#: how many times as far something moves that surely does
MOVES = 4.0
#: places that have to stand still, and to move, for a pair to tell anything
FEWEST = 12
#: how many times as many places lie within the radius as in the ring about it
HEAPED = 1.5
#: pairs that tell of a backdrop, at least, and the share of those in which anything moves
PAIRS, SHARE = 3, 0.2


def radius(longest: float) -> float:
    """Movement in pixels below which a place of photos whose longer side is ``longest`` stands still."""
    return max(STILL_PX, STILL * longest / 1000)


def still_and_moving(x1: NDArray, x2: NDArray, longest: float) -> tuple[NDArray[np.bool_], NDArray[np.bool_], bool]:
    """Which matches (N, 2) of a pair stand still and which surely move, and whether what stands still is a backdrop by their numbers."""
    r = radius(longest)
    far = np.linalg.norm(np.asarray(x2, float) - x1, axis=1)
    still, moving = far < r, far > MOVES * r
    ring = int(((far >= r) & (far < 2 * r)).sum())
    heaped = still.sum() >= FEWEST and still.sum() > HEAPED * ring and moving.sum() >= FEWEST
    return still, moving, bool(heaped)


@dataclass
class Backdrop:
    """Features of each photo (N_i,) that belong to a still backdrop; the share of all matches that they took part in."""

    features: list[NDArray[np.bool_]]
    share: float


def find_backdrop(xy: Sequence[NDArray], matches: Matches, longest: Sequence[float]) -> Backdrop | None:
    """The still backdrop of a set of photos; None where there is none.

    Parameters
    ----------
    xy : list of (N_i, 2)
        Features of each photo in pixels.
    matches : dict
        Pairs of photos to (K, 2) feature numbers.
    longest : (n,)
        Longer side of each photo.
    """
    stays = [np.zeros(len(x), np.int32) for x in xy]
    goes = [np.zeros(len(x), np.int32) for x in xy]
    tell = heaps = 0
    for (i, j), m in matches.items():
        if longest[i] != longest[j]:
            continue
        still, moving, heaped = still_and_moving(xy[i][m[:, 0]], xy[j][m[:, 1]], longest[i])
        if moving.sum() < FEWEST:
            continue
        tell += 1
        heaps += heaped
        for k, photo in enumerate((i, j)):
            if heaped:
                np.add.at(stays[photo], m[still, k], 1)
            np.add.at(goes[photo], m[moving, k], 1)
    if heaps < PAIRS or heaps < SHARE * tell:
        return None
    features = [(s > 0) & (s >= g) for s, g in zip(stays, goes)]
    gone = sum(int((features[i][m[:, 0]] | features[j][m[:, 1]]).sum()) for (i, j), m in matches.items())
    return Backdrop(features, gone / max(sum(len(m) for m in matches.values()), 1))


def without_backdrop(
    xy: Sequence[NDArray], matches: Matches, longest: Sequence[float], found: Backdrop
) -> dict[tuple[int, int], NDArray[np.int32]]:
    """Matches of what moves before a backdrop alone (arguments as :func:`find_backdrop`)."""
    out = {}
    for (i, j), m in matches.items():
        keep = ~(found.features[i][m[:, 0]] | found.features[j][m[:, 1]])
        if longest[i] == longest[j]:
            still, _, heaped = still_and_moving(xy[i][m[:, 0]], xy[j][m[:, 1]], longest[i])
            keep &= ~(still & heaped)
        if keep.sum() >= FEWEST:
            out[i, j] = m[keep]
    return out
