"""Placed cameras that can hardly stand where they were placed.

A photo may be tied to the wrong place by what merely looks alike: the other side of the subject, a repeated pattern, something
that moved. Its residuals are as small as any other's. What gives it away is what the model has to deny for it: photos that
matched it well, but from where it stands cannot have; and that it leaves the path on which it was shot.

References
----------
Jiang, N., Tan, P., Cheong, L.-F. (2012). Seeing double without confusion: structure-from-motion in highly ambiguous scenes.
CVPR (missing correspondences).
Hartley, R., Zisserman, A. (2004). Multiple View Geometry in Computer Vision, 2nd ed., ch. 9 (the epipolar constraint).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.model import Model
from vast_quarry.core.camera import undistort
from vast_quarry.core.match.twoview import sampson
from vast_quarry.core.pose import fit_similarity, skew

Array = NDArray[np.float64]
Matches = dict[tuple[int, int], NDArray[np.int32]]

#: matches of a pair that is asked, so many that more say no more, and how far (thousandths of the longer side) they may miss the line that the model says
STRONG, SURE, REACH = 30, 100, 3.0
#: share of matches below which the model denies a pair; and the share of what a photo's pairs say that is denied,
#: from which it is not believed (a photo that is right beside a wrong one has one such pair of many)
DENIED, NOT_BELIEVED = 0.25, 0.5
#: a photo left the path when it stands so many usual steps from both its neighbours, which stand within so many of each other
OFF_PATH, NEIGHBOURS = 5.0, 2.5
#: share of its matches denied that tells against a photo off the path; and the share of photos beyond which none is doubted:
#: then much of what was matched stands still or moves by itself, and the photos are all alike in that
DOUBTED, MOST = 0.2, 0.25


@dataclass(frozen=True)
class Doubt:
    """Why a placed photo is not believed: share of its matches that the model denies, and whether it left the path."""

    photo: int
    denied: float
    off_path: bool
    #: photos that matched it best of those that it is denied
    against: tuple[int, ...]


def epipolar_misses(
    rotation: Array, center: Array, other_rotation: Array, other_center: Array, x1: Array, x2: Array
) -> Array:
    """By how much matches (N, 2) of two posed photos, undistorted and normalised, miss their epipolar lines (N,)."""
    base = other_rotation @ (center - other_center)
    return np.asarray(sampson(x1, x2, skew(base) @ other_rotation @ rotation.T), float)


def agreement(model: Model, xy: Sequence[NDArray[np.float32]], matches: Matches) -> dict[tuple[int, int], float]:
    """Share of the matches of each strong pair of placed photos that lie along the epipolar lines of the model.

    Parameters
    ----------
    xy : list of (N_i, 2)
        Features of each photo in pixels.
    matches : dict
        ``(i, j)`` to (K, 2) feature numbers.
    """
    out = {}
    placed: list[int] = np.flatnonzero(model.placed).tolist()
    rays = {n: undistort(xy[n].astype(float), model.lenses[int(model.lens_of[n])]) for n in placed}
    span = np.linalg.norm(np.ptp(model.centers[model.placed], axis=0)) if model.placed.any() else 0.0
    for (i, j), m in matches.items():
        if len(m) < STRONG or not (model.placed[i] and model.placed[j]):
            continue
        if np.linalg.norm(model.centers[i] - model.centers[j]) < 1e-3 * span:
            continue  # from one place there are no lines
        poses = [(model.rotations[k], model.centers[k]) for k in (i, j)]
        miss = epipolar_misses(*poses[0], *poses[1], rays[i][m[:, 0]], rays[j][m[:, 1]])
        # in thousandths of a photo
        unit = min(1000 * model.focal[k] / model.sizes[k].max() for k in (i, j))
        out[i, j] = float((miss * unit < REACH).mean())
    return out


def off_path(model: Model, order: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Placed photos (n,) that stand far from both their neighbours in the order of shooting, which stand close together."""
    out = np.zeros(len(model.placed), bool)
    along = order[model.placed[order]]
    if len(along) < 6:
        return out
    c = model.centers[along]
    step = float(np.median(np.linalg.norm(np.diff(c, axis=0), axis=1)))
    before, after = np.linalg.norm(c[1:-1] - c[:-2], axis=1), np.linalg.norm(c[1:-1] - c[2:], axis=1)
    gap = np.linalg.norm(c[2:] - c[:-2], axis=1)
    out[along[1:-1]] = (np.minimum(before, after) > OFF_PATH * step) & (gap < NEIGHBOURS * step)
    return out


def doubts(model: Model, xy: Sequence[NDArray[np.float32]], matches: Matches, order: NDArray[np.int64]) -> list[Doubt]:
    """Placed photos that are not believed, in order, with the evidence.

    ``order`` are all photos in the order of shooting; other arguments as :func:`agreement`. None where it would be more than
    :data:`MOST` of them.
    """
    n = len(model.placed)
    shares = agreement(model, xy, matches)
    away = off_path(model, order)
    out: list[Doubt] = []
    gone: set[int] = set()
    while True:
        against, total = np.zeros(n), np.zeros(n)
        for (i, j), share in shares.items():
            if i in gone or j in gone:
                continue
            for k in (i, j):
                total[k] += min(len(matches[i, j]), SURE)
                against[k] += min(len(matches[i, j]), SURE) * (share < DENIED)
        denied = against / np.maximum(total, 1)
        # the worst first: without it its neighbours may be as good as any
        bad = (denied > NOT_BELIEVED) | (away & (denied > DOUBTED))
        if not bad.any():
            return sorted(out, key=lambda d: d.photo) if len(out) <= MOST * model.placed.sum() else []
        worst = int(np.where(bad, denied, -1).argmax())
        pairs = [(len(matches[p]), p) for p, s in shares.items() if worst in p and s < DENIED and not gone & set(p)]
        others = [p[0] if p[1] == worst else p[1] for _, p in sorted(pairs, reverse=True)]
        out.append(Doubt(worst, float(denied[worst]), bool(away[worst]), tuple(others[:3])))
        gone.add(worst)


def take_out(model: Model, photos: Sequence[int], threshold: float, smallest_angle_deg: float) -> None:
    """Take photos out of a model with all that they said: their poses stay to be seen, nothing is built on them."""
    model.placed[list(photos)] = False
    model.inlier[np.isin(model.tracks.photo, photos)] = False
    model.triangulate(threshold, smallest_angle_deg)


def off_plan(centers: Array, planned: Array, rounds: int = 10) -> Array:
    """How far cameras stand from where they were planned, as a share of how far those places spread (n,).

    Parameters
    ----------
    centers, planned : (n, 3)
        Where photos were placed, and where they were to be taken from, each in a frame of its own; n >= 4.
    rounds : int
        How often the similarity between both is found again, by photos that stand by the plan: a few that do not move it no more.
    """
    spread = float(np.median(np.linalg.norm(planned - np.median(planned, axis=0), axis=1))) or 1.0
    weight = np.ones(len(centers))
    off = np.zeros(len(centers))
    for _ in range(rounds):
        near = weight >= np.sort(weight)[len(weight) // 3]  # two thirds at least
        off = np.linalg.norm(fit_similarity(centers[near], planned[near]).points(centers) - planned, axis=1)
        weight = 1 / (1 + (off / max(float(np.median(off)), 1e-9 * spread)) ** 2)
    return np.asarray(off / spread)
