"""Incremental growth: a good first pair, then one photo after another, refined as it goes.

References
----------
Snavely, N., Seitz, S., Szeliski, R. (2006). Photo tourism: exploring photo collections in 3D. ACM TOG 25(3).
Wu, C. (2013). Towards linear-time incremental structure from motion. 3DV (adjustments at geometric growth,
re-triangulation).
Lepetit, V., Moreno-Noguer, F., Fua, P. (2009). EPnP; Persson, M., Nordberg, K. (2018). Lambda twist P3P (through
PoseLib, for the resection).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import poselib
from numpy.typing import NDArray

from vast_quarry.core.align.model import Model
from vast_quarry.core.align.tracks import build_tracks
from vast_quarry.core.camera import Camera
from vast_quarry.core.match.twoview import relative_pose, shared_focal
from vast_quarry.core.progress import Progress, silent

Array = NDArray[np.float64]
Matches = dict[tuple[int, int], NDArray[np.int32]]

#: fewest agreeing points for a photo to be placed at all, and to be more than weakly placed
PLACED_AT_LEAST, WELL_PLACED = 12, 60

#: fewest points of a first pair
FIRST_PAIR_POINTS = 20


@dataclass
class AlignInput:
    """What alignment starts from.

    Attributes
    ----------
    xy, scale : lists of (N_i, 2) and (N_i,)
        Features of each photo: pixels and diameters.
    matches : dict
        Verified matches of pairs: ``(i, j)`` to (K, 2) feature numbers.
    lens_of : (n,) int, lenses : list of Camera
        First guess of the lenses, and which photo was taken with which.
    guessed : list of bool
        Lenses whose focal length is a mere guess.
    """

    xy: list[NDArray[np.float32]]
    scale: list[NDArray[np.float32]]
    matches: Matches
    lens_of: NDArray[np.int64]
    lenses: list[Camera]
    guessed: list[bool]


def estimate_focals(data: AlignInput, most_pairs: int = 24) -> list[Camera]:
    """Lenses with guessed focal lengths replaced by what their best pairs of photos agree on."""
    out = list(data.lenses)
    for k, camera in enumerate(data.lenses):
        if not data.guessed[k]:
            continue
        pairs = [p for p in data.matches if data.lens_of[p[0]] == k and data.lens_of[p[1]] == k]
        pairs.sort(key=lambda p: -len(data.matches[p]))
        votes: list[float] = []
        weights: list[float] = []
        threshold = 2.0 * max(camera.width, camera.height) / 1000
        for i, j in pairs[:most_pairs]:
            m = data.matches[i, j]
            answer = shared_focal(data.xy[i][m[:, 0]], data.xy[j][m[:, 1]], camera.width, camera.height, threshold)
            if answer is not None:
                votes.append(np.log(answer[0]))
                weights.append(answer[1])
        if len(votes) >= 3:
            order = np.argsort(votes)
            cumulative = np.cumsum(np.asarray(weights)[order])
            focal = float(np.exp(np.asarray(votes)[order][np.searchsorted(cumulative, cumulative[-1] / 2)]))
            out[k] = Camera.simple(camera.width, camera.height, focal)
    return out


def start_model(data: AlignInput, lenses: list[Camera]) -> Model:
    """An empty model over the tracks of all matches."""
    tracks = build_tracks([len(x) for x in data.xy], data.matches)
    offset = np.concatenate([[0], np.cumsum([len(x) for x in data.xy])])
    node = offset[tracks.photo] + tracks.feature
    xy = np.concatenate(data.xy).astype(float)[node] if len(node) else np.zeros((0, 2))
    scale = np.concatenate(data.scale).astype(float)[node] if len(node) else np.zeros(0)
    n = len(data.xy)
    sigma = np.hypot(0.6, 0.04 * scale)
    return Model(
        tracks,
        xy,
        sigma,
        data.lens_of,
        list(lenses),
        np.tile(np.eye(3), (n, 1, 1)),
        np.zeros((n, 3)),
        np.zeros(n, bool),
    )


class Grower:
    """Grows one model from one first pair."""

    def __init__(self, data: AlignInput, lenses: list[Camera], progress: Progress = silent) -> None:
        self.data = data
        self.model = start_model(data, lenses)
        self.progress = progress
        self.loss = 2.0
        m = self.model
        self._by_photo = np.argsort(m.tracks.photo, kind="stable")
        self._photo_start = np.searchsorted(m.tracks.photo[self._by_photo], np.arange(len(m.placed) + 1))
        self.on_step: Callable[[Model], None] = lambda model: None

    def first_pairs(self, most: int = 40) -> list[tuple[float, int, int]]:
        """Candidates for the first pair: many matches, and enough parallax, best first."""
        pairs = sorted(self.data.matches, key=lambda p: -len(self.data.matches[p]))[:most]
        scored = []
        for i, j in pairs:
            m = self.data.matches[i, j]
            cam_i, cam_j = self.model.lenses[self.data.lens_of[i]], self.model.lenses[self.data.lens_of[j]]
            threshold = 2.5 * max(cam_i.width, cam_i.height) / 1000
            x1, x2 = self.data.xy[i][m[:, 0]].astype(float), self.data.xy[j][m[:, 1]].astype(float)
            pose = relative_pose(x1, x2, cam_i, cam_j, threshold)
            if pose is None:
                continue
            score = pose.inliers.sum() * min(pose.angle_deg, 12.0) / 12.0
            scored.append((float(score) * float(pose.inliers.mean()), i, j))
        return sorted(scored, reverse=True)

    def start(self, i: int, j: int) -> bool:
        """Place the first pair; False when it does not hold."""
        m, data = self.model, self.data
        pairs = data.matches[i, j]
        cam_i, cam_j = m.lenses[m.lens_of[i]], m.lenses[m.lens_of[j]]
        threshold = 2.5 * max(cam_i.width, cam_i.height) / 1000
        x1, x2 = data.xy[i][pairs[:, 0]].astype(float), data.xy[j][pairs[:, 1]].astype(float)
        pose = relative_pose(x1, x2, cam_i, cam_j, threshold)
        if pose is None:
            return False
        m.rotations[i], m.centers[i] = np.eye(3), np.zeros(3)
        m.rotations[j], m.centers[j] = pose.rotation, -pose.rotation.T @ pose.translation
        m.placed[[i, j]] = True
        self._open(6.0, 2.0)
        if m.good.sum() < FIRST_PAIR_POINTS:
            m.placed[[i, j]] = False
            return False
        m.adjust(0, self.loss * 2)
        self._open(5.0, 2.0)
        return bool(m.good.sum() >= FIRST_PAIR_POINTS)

    def _open(self, threshold: float, angle: float, only: NDArray[np.bool_] | None = None) -> None:
        """Triangulate with a threshold in thousandths of the photo's longer side."""
        m = self.model
        m.open_tracks(threshold * float(np.median(m.pixel_scale()[m.placed])), angle, only)

    def candidates(self) -> list[tuple[int, int]]:
        """Unplaced photos by the number of points that they see, best first."""
        m = self.model
        seen = np.bincount(m.tracks.photo[m.good[m._track_of]], minlength=len(m.placed))
        order = np.argsort(-seen, kind="stable")
        return [(int(i), int(seen[i])) for i in order if not m.placed[i] and seen[i] >= PLACED_AT_LEAST]

    def resect(self, photo: int) -> bool:
        """Place one photo from the points that it sees."""
        m = self.model
        obs = self._by_photo[self._photo_start[photo] : self._photo_start[photo + 1]]
        obs = obs[m.good[m._track_of[obs]]]
        lens = m.lenses[m.lens_of[photo]]
        f = lens.fx
        unit = max(lens.width, lens.height) / 1000
        options = {"max_reproj_error": 5.0 * unit, "max_iterations": 10000, "min_iterations": 200, "seed": 0}
        camera = {"model": "SIMPLE_PINHOLE", "width": lens.width, "height": lens.height, "params": [f, 0.0, 0.0]}
        points = m.points[m._track_of[obs]]
        pose, info = poselib.estimate_absolute_pose(m.normalised()[obs] * f, points, camera, options, {})
        inlier = np.asarray(info["inliers"], bool)
        # few points must agree nearly all, many may have a minority
        if inlier.sum() < PLACED_AT_LEAST or inlier.mean() < (0.25 if inlier.sum() >= 24 else 0.5):
            return False
        rotation, center = np.asarray(pose.R), np.asarray(pose.center()).ravel()
        if not np.isfinite(center).all():
            return False
        m.rotations[photo], m.centers[photo], m.placed[photo] = rotation, center, True
        m.inlier[obs] = inlier
        return True

    def grow(self) -> None:
        """Place photos until none is left that can be."""
        m = self.model
        n = len(m.placed)
        last_adjusted = int(m.placed.sum())
        failed: dict[int, int] = {}
        while True:
            placed = int(m.placed.sum())
            self.progress(placed, n)
            options = [(i, seen) for i, seen in self.candidates() if failed.get(i, -1) < placed]
            done = False
            for i, _ in options:
                if self.resect(i):
                    done = True
                    mine = np.zeros(len(m.tracks), bool)
                    own = self._by_photo[self._photo_start[i] : self._photo_start[i + 1]]
                    mine[m._track_of[own]] = True
                    self._open(4.0, 1.5, mine)
                    self.on_step(m)
                    break
                failed[i] = placed
            placed = int(m.placed.sum())
            if not done and last_adjusted == placed:
                return
            if not done or placed < 6 or placed >= last_adjusted * 1.15 + 1:
                self.refine(placed)
                last_adjusted = placed

    def refine(self, placed: int) -> None:
        """Adjust, drop what disagrees, triangulate again."""
        m = self.model
        stage = 1 if placed < 4 else 2 if placed < 8 else 3
        m.adjust(stage, self.loss, iterations=12, tolerance=1e-3)
        self._open(3.0, 1.5)
        self.drop_unsupported()

    def drop_unsupported(self) -> None:
        """Photos that lost their points are taken out again."""
        m = self.model
        bad = m.placed & (m.observations_per_photo() < PLACED_AT_LEAST)
        m.placed[bad] = False

    def finish(self) -> float:
        """Final rounds: everything free, tighter and tighter; returns the RMS residual in pixels."""
        m = self.model
        rms = 0.0
        for round_number, (threshold, loss) in enumerate(((3.0, 1.5), (2.0, 1.0), (1.5, 0.8))):
            rms = m.adjust(4 if round_number else 3, loss, iterations=20, tolerance=1e-4).rms
            self._open(threshold, 1.2)
            self.drop_unsupported()
            for i, _ in self.candidates():
                if self.resect(i):
                    self._open(threshold, 1.2)
        return m.adjust(4, 0.7, iterations=30, tolerance=1e-6).rms if m.placed.any() else rms


def align(
    data: AlignInput,
    progress: Progress = silent,
    attempts: int = 3,
    on_step: Callable[[Model], None] = lambda model: None,
) -> Model | None:
    """Align photos from verified matches.

    The best of up to ``attempts`` growths from different first pairs, stopping when four fifths are placed.
    Returns None when no pair of photos holds. ``on_step`` is shown the model after every photo placed.
    """
    if not data.matches:
        return None
    lenses = estimate_focals(data)
    best: Model | None = None
    used: set[int] = set()
    grower = Grower(data, lenses, progress)
    tried = 0
    for _, i, j in grower.first_pairs():
        if tried >= attempts:
            break
        if i in used and j in used:
            continue
        fresh = Grower(data, lenses, progress)
        fresh.on_step = on_step
        if not fresh.start(i, j):
            continue
        tried += 1
        fresh.grow()
        if fresh.model.placed.sum() >= 2:
            fresh.finish()
        if best is None or fresh.model.placed.sum() > best.placed.sum():
            best = fresh.model
        used |= set(np.flatnonzero(fresh.model.placed).tolist())
        if best.placed.mean() >= 0.8:
            break
    return best if best is not None and best.placed.sum() >= 2 else None
