"""Where to begin: which two photos make the first pair.

Photos are compared by the tracks that they share, whether or not they were matched with each other: in a walk with small
steps neighbours share most, but only photos far apart see depth. A pair is worth much when it shares many tracks, spread
over the picture, when much angle is left between the rays once the rotation between the two is taken out, and when an
essential matrix explains clearly more than a homography does (a plane alone, or a turn on the spot, determines little).

References
----------
Torr, P. (1998). Geometric motion segmentation and model selection. Phil. Trans. R. Soc. A 356 (homography or epipolar).
Snavely, N., Seitz, S., Szeliski, R. (2006). Photo tourism. ACM TOG 25(3) (the first pair).
Kabsch, W. (1976). A solution for the best rotation to relate two sets of vectors. Acta Crystallographica A32.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix

from vast_quarry.core.align.tracks import Tracks
from vast_quarry.core.camera import Camera, undistort
from vast_quarry.core.match.twoview import RelativePose, relative_pose

Array = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]

#: shared tracks that make two photos a candidate
SHARED = 24
#: candidates of each photo, spread over how much they share; and pairs looked at in full
PER_PHOTO, IN_FULL = 12, 48
#: pairs of which shared tracks, parallax and spread are looked at: one in so many is enough where there are more
AT_A_GLANCE = 700
#: angle (degrees) that is as good as more
ENOUGH_ANGLE = 10.0


@dataclass(frozen=True)
class Pair:
    """Two photos with the tracks that both see.

    Attributes
    ----------
    i, j : int
        Photos.
    a, b : (K,) int
        Observations in them, of the same tracks in turn.
    """

    i: int
    j: int
    a: Ints
    b: Ints


@dataclass(frozen=True)
class FirstPair:
    """A pair that may be the first: its worth, how the cameras stand, and the angle and pixels of parallax in it."""

    worth: float
    pair: Pair
    pose: RelativePose
    parallax_deg: float


class Sharing:
    """Which photos share which tracks."""

    def __init__(self, tracks: Tracks, photos: int) -> None:
        self.tracks, self.photos = tracks, photos
        self._track_of = tracks.track_of
        ones = np.ones(len(tracks.photo), np.int32)
        self._seen = csr_matrix((ones, (tracks.photo, self._track_of)), shape=(photos, max(len(tracks), 1)))
        self._row = csr_matrix(
            (np.arange(1, len(ones) + 1), (tracks.photo, self._track_of)), shape=(photos, max(len(tracks), 1))
        )
        self.count = np.asarray((self._seen @ self._seen.T).toarray())
        np.fill_diagonal(self.count, 0)

    def pair(self, i: int, j: int) -> Pair:
        """The tracks that two photos share."""
        a, b = self._row[i], self._row[j]
        _, at, bt = np.intersect1d(a.indices, b.indices, assume_unique=True, return_indices=True)
        return Pair(i, j, a.data[at].astype(np.int64) - 1, b.data[bt].astype(np.int64) - 1)

    def candidates(self, least: int = SHARED, among: Bools | None = None) -> list[tuple[int, int]]:
        """Pairs that share at least so many tracks; of each photo some that share most, and others down to the least."""
        out: set[tuple[int, int]] = set()
        for i in range(self.photos) if among is None else np.flatnonzero(among).tolist():
            order = np.argsort(-self.count[i], kind="stable")
            order = order[self.count[i, order] >= least]
            order = order if among is None else order[among[order]]
            pick = (
                np.unique(np.linspace(0, len(order) - 1, min(PER_PHOTO, len(order))).round().astype(int))
                if len(order)
                else order
            )
            out |= {(min(i, int(j)), max(i, int(j))) for j in order[pick]}
        return sorted(out)


def best_rotation(d1: Array, d2: Array, rounds: int = 4) -> Array:
    """Rotation R (3, 3) with ``d2 ~ R d1`` for unit rays (N, 3), by reweighted least squares (Kabsch)."""
    w = np.ones(len(d1))
    r = np.eye(3)
    for _ in range(rounds):
        u, _, vt = np.linalg.svd((d2 * w[:, None]).T @ d1)
        r = u @ np.diag([1.0, 1.0, np.sign(np.linalg.det(u @ vt))]) @ vt
        off = np.linalg.norm(d2 - d1 @ r.T, axis=1)
        w = 1.0 / np.maximum(off, 0.3 * np.median(off) + 1e-12)
    return np.asarray(r)


def rays_of(xy: Array, camera: Camera) -> Array:
    """Unit rays (N, 3) of pixels (N, 2)."""
    n = undistort(xy, camera)
    d = np.concatenate([n, np.ones((len(n), 1))], 1)
    return d / np.linalg.norm(d, axis=1, keepdims=True)


def parallax(d1: Array, d2: Array) -> float:
    """Median angle (radians) between rays of two photos once the rotation between them is taken out."""
    off = np.linalg.norm(d2 - d1 @ best_rotation(d1, d2).T, axis=1)
    return float(np.median(off))


def spread(xy: Array, camera: Camera, cells: int = 6) -> float:
    """Share of the cells of a photo in which there are pixels (N, 2), up to a half being enough (0 to 1)."""
    c = np.floor(xy / [camera.width, camera.height] * cells).astype(int).clip(0, cells - 1)
    return min(1.0, len(np.unique(c[:, 0] * cells + c[:, 1])) / (0.5 * cells * cells))


def first_pairs(
    sharing: Sharing, xy: Array, lens_of: Ints, lenses: list[Camera], tolerance: float, most: int = IN_FULL,
    among: Bools | None = None,
) -> list[FirstPair]:  # fmt: skip
    """First pairs, best first.

    Parameters
    ----------
    sharing : Sharing
    xy : (M, 2)
        Pixels of all observations.
    tolerance : float
        Expected error of matches, in pixels for a photo of 1000 pixels (thousandths of the longer side).
    most : int
        So many are looked at in full; they are chosen by shared tracks, parallax and spread.
    among : (n,) bool, optional
        Only pairs of these photos.
    """
    quick = []
    pairs = sharing.candidates(among=among) or sharing.candidates(14, among)
    for k in np.unique(np.linspace(0, len(pairs) - 1, min(AT_A_GLANCE, len(pairs))).astype(int)) if pairs else ():
        i, j = pairs[k]
        p = sharing.pair(i, j)
        ci, cj = lenses[lens_of[i]], lenses[lens_of[j]]
        angle = parallax(rays_of(xy[p.a], ci), rays_of(xy[p.b], cj))
        # parallax within the noise is none
        least = 3.0 * tolerance * max(ci.width, ci.height) / 1000 / ci.fx
        if angle < least:
            continue
        worth = min(len(p.a), 200) * min(np.degrees(angle), ENOUGH_ANGLE) * spread(xy[p.a], ci) * spread(xy[p.b], cj)
        quick.append((worth, p, angle))
    quick.sort(key=lambda q: -q[0])
    used = np.zeros(sharing.photos, int)
    out: list[FirstPair] = []
    for _, p, angle in quick:
        if len(out) >= most:
            break
        if used[p.i] >= 4 or used[p.j] >= 4:
            continue
        used[[p.i, p.j]] += 1
        found = _in_full(p, angle, xy, lenses[lens_of[p.i]], lenses[lens_of[p.j]], tolerance)
        if found is not None:
            out.append(found)
    return sorted(out, key=lambda f: -f.worth)


def _in_full(p: Pair, angle: float, xy: Array, ci: Camera, cj: Camera, tolerance: float) -> FirstPair | None:
    """How well an essential matrix explains a pair, against a homography."""
    x1, x2 = xy[p.a], xy[p.b]
    threshold = 2.0 * tolerance * max(ci.width, ci.height) / 1000
    pose = relative_pose(x1, x2, ci, cj, threshold)
    if pose is None:
        return None
    n1, n2 = undistort(x1, ci) * ci.fx, undistort(x2, cj) * ci.fx
    h, inside = cv2.findHomography(n1, n2, cv2.USAC_DEFAULT, threshold, maxIters=1000, confidence=0.99)
    flat = 0 if h is None else int(inside.sum())
    agree = int(pose.inliers.sum())
    beyond = max(0.0, 1.0 - flat / agree)
    # angles add little beyond what is enough, and too wide ones are seldom matched well
    gain = min(np.degrees(angle), ENOUGH_ANGLE) / ENOUGH_ANGLE
    worth = min(agree, 400) * gain * (0.15 + min(beyond, 0.5)) * agree / len(p.a)
    return FirstPair(float(worth * spread(x1, ci) * spread(x2, cj)), p, pose, float(np.degrees(angle)))
