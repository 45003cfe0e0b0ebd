"""Groups of photos that were aligned by themselves, joined by what both show.

A photo that sees too few points of a group cannot be placed in it; many photos that each see a few can, all at once: points
that both groups triangulated from tracks of the same places give the similarity between their frames (3D to 3D, by RANSAC).
It is as sure as the points are precise, so that it only begins what an adjustment of all cameras together ends.

References
----------
Umeyama, S. (1991). Least-squares estimation of transformation parameters between two point patterns. IEEE TPAMI 13(4).
Fischler, M., Bolles, R. (1981). Random sample consensus. Comm. ACM 24(6).
Bhowmick, B., Patra, S., Chatterjee, A., Govindu, V., Banerjee, S. (2014). Divide and conquer: efficient large-scale structure
from motion using graph partitioning. ACCV (separate parts, then one).
"""

from __future__ import annotations

import copy

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.model import Bools, Model
from vast_quarry.core.align.tracks import Tracks
from vast_quarry.core.pose import Similarity, fit_similarity

Array = NDArray[np.float64]
Ints = NDArray[np.int64]

#: common points that join two groups, the share of all common ones that has to agree, photos of each that see them
JOINED_BY, AGREEING, SEEN_FROM = 12, 0.3, 2
#: trials of the search, and pixels (thousandths of the longer side) that agreeing points may miss by in both groups
TRIALS, REACH = 2000, 4.0


def points_of(model: Model, tracks: Tracks) -> tuple[Ints, Array]:
    """Which tracks of the set a model holds points of, and those points (K, 3).

    A model may have split its tracks: each track of the set takes the point of the first of its features that agrees.
    """
    ours = model.inlier & model.good[model.track_of] & model.placed[model.tracks.photo]
    span = int(max(model.tracks.feature.max(initial=0), tracks.feature.max(initial=0))) + 1
    mine = model.tracks.photo[ours] * span + model.tracks.feature[ours]
    order = np.argsort(mine)
    key = tracks.photo * span + tracks.feature
    at = np.searchsorted(mine[order], key).clip(0, max(len(mine) - 1, 0))
    if not len(mine):
        return np.zeros(0, np.int64), np.zeros((0, 3))
    there = np.flatnonzero(mine[order][at] == key)
    which, first = np.unique(tracks.track_of[there], return_index=True)
    point = model.track_of[ours][order][at[there[first]]]
    return which, model.points[point]


def _shown(model: Model, points: Array) -> Array:
    """How large a unit of length at each point (K, 3) looks from the nearest placed camera: thousandths of its photo."""
    rows = np.flatnonzero(model.placed)
    far = np.linalg.norm(points[:, None] - model.centers[rows][None], axis=2)
    nearest = rows[far.argmin(1)]
    return np.asarray(1000 * model.focal[nearest] / model.sizes[nearest].max(1) / np.maximum(far.min(1), 1e-12))


def similarity_between(
    a: Array, b: Array, shown_a: Array, shown_b: Array, seed: int = 0
) -> tuple[Similarity, Bools] | None:
    """Similarity from points ``b`` (K, 3) to ``a`` (K, 3), and which agree; None without a sample that any agree with.

    ``shown_a``, ``shown_b`` (K,) say how large a unit of length at each point looks in each group (thousandths of a photo).
    """
    rng = np.random.default_rng(seed)
    best: Bools | None = None
    for _ in range(TRIALS):
        pick = rng.choice(len(a), 3, replace=False)
        s = fit_similarity(b[pick], a[pick])
        if not np.isfinite(s.scale) or s.scale <= 1e-9:
            continue
        agree = _agreeing(s, a, b, shown_a, shown_b)
        if best is None or agree.sum() > best.sum():
            best = agree
    if best is None or best.sum() < 4:
        return None
    for _ in range(4):
        found = fit_similarity(b[best], a[best])
        best = _agreeing(found, a, b, shown_a, shown_b)
        if best.sum() < 4:
            return None
    return found, best


def _agreeing(s: Similarity, a: Array, b: Array, shown_a: Array, shown_b: Array) -> Bools:
    off = np.linalg.norm(s.points(b) - a, axis=1)
    return np.asarray((off * shown_a < REACH) & (off / s.scale * shown_b < REACH))


def join(model: Model, other: Model, tracks: Tracks) -> Model | None:
    """The other group in the frame of the model; None where too little that both show agrees.

    Parameters
    ----------
    model, other : Model
        Of the same set of photos, without a photo in common.
    tracks : Tracks
        Over all photos, before either model split any.
    """
    (which_a, points_a), (which_b, points_b) = points_of(model, tracks), points_of(other, tracks)
    both, at_a, at_b = np.intersect1d(which_a, which_b, assume_unique=True, return_indices=True)
    if len(both) < JOINED_BY:
        return None
    a, b = points_a[at_a], points_b[at_b]
    found = similarity_between(a, b, _shown(model, a), _shown(other, b))
    if found is None:
        return None
    similarity, agree = found
    if agree.sum() < max(JOINED_BY, AGREEING * len(both)):
        return None
    seen = np.isin(tracks.track_of, both[agree])
    for part in (model, other):
        if len(np.unique(tracks.photo[seen & part.placed[tracks.photo]])) < SEEN_FROM:
            return None
    moved = copy.copy(other)
    moved.rotations, moved.centers = other.rotations.copy(), other.centers.copy()
    for n in np.flatnonzero(other.placed):
        moved.rotations[n], moved.centers[n] = similarity.pose(other.rotations[n], other.centers[n])
    return moved
