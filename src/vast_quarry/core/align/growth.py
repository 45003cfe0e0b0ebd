"""Growth of one model: a good first pair, then one photo after another, refined as it goes.

References
----------
Snavely, N., Seitz, S., Szeliski, R. (2006). Photo tourism: exploring photo collections in 3D. ACM TOG 25(3).
Wu, C. (2013). Towards linear-time incremental structure from motion. 3DV (adjustments at geometric growth,
re-triangulation).
Lepetit, V., Moreno-Noguer, F., Fua, P. (2009). EPnP; Persson, M., Nordberg, K. (2018). Lambda twist P3P (through
PoseLib, for the resection).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import poselib
from numpy.typing import NDArray

from vast_quarry.core.align.lens import LensPrior, prior_of
from vast_quarry.core.align.model import Bools, Model
from vast_quarry.core.align.noise import first_guess
from vast_quarry.core.align.release import proven_unknowns, shares_lens, try_focals
from vast_quarry.core.align.start import FirstPair, Sharing
from vast_quarry.core.align.tracks import Tracks, build_tracks
from vast_quarry.core.camera import Camera
from vast_quarry.core.progress import Progress, silent

Array = NDArray[np.float64]
Matches = dict[tuple[int, int], NDArray[np.int32]]

#: fewest agreeing points for a photo to be placed at all, and to be more than weakly placed
PLACED_AT_LEAST, WELL_PLACED = 12, 60
#: fewest points of a first pair
FIRST_PAIR_POINTS = 20
#: how often one photo is tried
MOST_TRIES = 6
#: cameras stand still that move, all together, by less than so many sigmas squared in any one direction of their unknowns
STILL = 0.03
#: in sigmas: threshold while growing, robust loss of the last adjustment, and both of the rounds before it
GROWING, LAST_LOSS, ROUNDS = 6.0, 1.0, ((5.0, 2.0), (4.0, 1.5), (3.5, 1.2))


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
    own_lens : (n,) int, optional
        Lens that a photo has if it turns out not to share that of ``lens_of``.
    order : (n,) int, optional
        The photos in the order of shooting, where that is not the order they are in.
    picked : list of dict
        Places that somebody picked: row of a photo to the pixel (x, y) where it shows the place. They join groups that nothing else
        ties.
    before_still : bool
        Whether a backdrop that stands still was left out of the matches: what is left is little, and chance has more room.
    """

    xy: list[NDArray[np.float32]]
    scale: list[NDArray[np.float32]]
    matches: Matches
    lens_of: NDArray[np.int64]
    lenses: list[Camera]
    guessed: list[bool]
    own_lens: NDArray[np.int64] | None = None
    order: NDArray[np.int64] | None = None
    picked: Sequence[Mapping[int, tuple[float, float]]] = ()
    before_still: bool = False


@dataclass(frozen=True)
class Ground:
    """What all attempts share: tracks, their observations, lenses as they begin, and what is known of them."""

    tracks: Tracks
    xy: Array
    scale: Array
    sharing: Sharing
    lenses: list[Camera]
    prior: LensPrior


def lay_ground(data: AlignInput) -> Ground:
    """Tracks over all matches, and lenses to begin with."""
    tracks = build_tracks([len(x) for x in data.xy], data.matches)
    offset = np.concatenate([[0], np.cumsum([len(x) for x in data.xy])])
    node = offset[tracks.photo] + tracks.feature
    xy = np.concatenate(data.xy).astype(float)[node] if len(node) else np.zeros((0, 2))
    scale = np.concatenate(data.scale).astype(float)[node] if len(node) else np.zeros(0)
    sharing = Sharing(tracks, len(data.xy))
    prior = prior_of(data.lenses, data.guessed)
    return Ground(tracks, xy, scale, sharing, list(data.lenses), prior)


class Grower:
    """Grows one model from one first pair."""

    def __init__(
        self, data: AlignInput, ground: Ground, lenses: list[Camera], progress: Progress = silent,
        among: Bools | None = None,
    ) -> None:  # fmt: skip
        n = len(data.xy)
        #: photos that may be placed
        self.among = np.ones(n, bool) if among is None else among
        longest = float(np.median([max(c.width, c.height) for c in lenses]))
        self.data, self.progress = data, progress
        self.model = Model(
            ground.tracks, ground.xy, ground.scale, first_guess(longest), data.lens_of.copy(), list(lenses),
            ground.prior, np.tile(np.eye(3), (n, 1, 1)), np.zeros((n, 3)), np.zeros(n, bool),
            check=lambda: progress(int(self.model.placed.sum()), n),
        )  # fmt: skip
        self.angle = 1.5
        #: numbers of photos at which other focal lengths are tried
        self.looks = [4, 8, 16] if any(data.guessed) else []
        self.tries = np.zeros(n, int)
        #: points that each photo saw when it was refused, and sees now
        self.refused, self.seen = np.zeros(n, int), np.zeros(n, int)
        self.on_step: Callable[[Model], None] = lambda model: None

    def start(self, first: FirstPair) -> bool:
        """Place the first pair; False when it does not hold."""
        m, p = self.model, first.pair
        m.rotations[p.i], m.centers[p.i] = np.eye(3), np.zeros(3)
        m.rotations[p.j], m.centers[p.j] = first.pose.rotation, -first.pose.rotation.T @ first.pose.translation
        m.placed[[p.i, p.j]] = True
        # where photos are close together all angles are small
        self.angle = float(np.clip(0.3 * first.parallax_deg, 0.4, 1.5))
        for loss in (4.0, 2.0):
            m.triangulate(GROWING, self.angle)
            if m.good.sum() < FIRST_PAIR_POINTS:
                m.placed[[p.i, p.j]] = False
                return False
            m.adjust(loss)
        m.triangulate(GROWING, self.angle)
        return bool(m.good.sum() >= FIRST_PAIR_POINTS)

    def candidates(self) -> list[int]:
        """Unplaced photos that see points, best first; those that were refused only when they see clearly more now."""
        m = self.model
        seen = np.bincount(m.tracks.photo[m.good[m.track_of]], minlength=len(m.placed))
        worth = self.among & ~m.placed & (seen >= PLACED_AT_LEAST) & (self.tries < MOST_TRIES)
        worth &= (self.refused == 0) | (seen > 1.2 * self.refused + 5)
        self.seen = seen
        return [int(i) for i in np.argsort(-seen, kind="stable") if worth[i]]

    def resect(self, photo: int) -> bool:
        """Place one photo from the points that it sees."""
        m = self.model
        self.tries[photo] += 1
        obs = m.observations_of(photo)
        obs = obs[m.good[m.track_of[obs]]]
        lens = m.lenses[m.lens_of[photo]]
        f = lens.fx
        # a photo whose lens is not known yet may miss by thousandths of its size, whatever the noise
        reach = max(GROWING * float(np.median(m.noise.sigma(m.scale[obs]))), 2.5 * max(lens.width, lens.height) / 1000)
        options = {"max_reproj_error": reach, "max_iterations": 10000, "min_iterations": 200, "seed": 0}
        camera = {"model": "SIMPLE_PINHOLE", "width": lens.width, "height": lens.height, "params": [f, 0.0, 0.0]}
        points = m.points[m.track_of[obs]]
        pose, info = poselib.estimate_absolute_pose(m.normalised()[obs] * f, points, camera, options, {})
        inlier = np.asarray(info["inliers"], bool)
        # few points must agree nearly all, many may have a minority
        if inlier.sum() < PLACED_AT_LEAST or inlier.mean() < (0.25 if inlier.sum() >= 24 else 0.5):
            self.refused[photo] = len(obs)
            return False
        rotation, center = np.asarray(pose.R), np.asarray(pose.center()).ravel()
        if not np.isfinite(center).all():
            return False
        m.rotations[photo], m.centers[photo], m.placed[photo] = rotation, center, True
        m.inlier[obs] = inlier
        m.triangulate(GROWING, self.angle, np.unique(m.track_of[m.observations_of(photo)]))
        return True

    def grow(self) -> None:
        """Place photos until none is left that can be."""
        m = self.model
        adjusted = int(m.placed.sum())
        # every photo is tried a few times at most, so this ends
        while True:
            self.progress(int(m.placed.sum()), len(m.placed))
            done = False
            for i in self.candidates():
                if self.resect(i):
                    self.on_step(m)
                    done = True
                    break
            placed = int(m.placed.sum())
            if not done and adjusted == placed:
                return
            if not done or placed < 6 or placed >= adjusted * 1.15 + 1:
                self.refine()
                adjusted = placed

    def refine(self) -> None:
        """Adjust, measure the noise, drop what disagrees, triangulate again."""
        m = self.model
        m.hold_but(m.decide(use=m.some()))
        m.adjust_by_some(2.0, 12, 1e-3, GROWING, self.angle)
        if m.placed.sum() >= 4:
            m.measure_noise(2 * GROWING)
        m.triangulate(GROWING, self.angle)
        if self.looks and m.placed.sum() >= self.looks[0]:
            self.looks.pop(0)
            try_focals(m, self.data.guessed, GROWING, self.angle)
        self.drop_unsupported()

    def drop_unsupported(self) -> None:
        """Photos that lost their points are taken out again, with their observations."""
        m = self.model
        bad = m.placed & (m.observations_per_photo() < PLACED_AT_LEAST)
        if not bad.any():
            return
        self.refused[bad] = self.seen[bad]
        m.placed[bad] = False
        theirs = bad[m.tracks.photo]
        m.inlier[theirs] = False
        m.triangulate(GROWING, self.angle, np.unique(m.track_of[theirs]))

    def finish(self) -> None:
        """Final rounds, tighter and tighter: lenses as far as the photos know them, tracks that went astray split."""
        m = self.model
        for number, (threshold, loss) in enumerate(ROUNDS):
            m.hold_but(m.decide(use=m.some()))
            m.adjust_by_some(loss, 12, 5e-4, threshold, 0.8 * self.angle)
            m.measure_noise(2 * threshold)
            if number == 0:
                m.split(GROWING)
                shares_lens(m, self.data.own_lens)
            m.triangulate(threshold, 0.8 * self.angle)
            self.drop_unsupported()
            self.tries[:], self.refused[:] = 0, 0
            for i in self.candidates():
                self.resect(i)
        m.hold_but(proven_unknowns(m))
        self.settle()

    def settle(self, quickly: bool = False) -> None:
        """The last adjustments, and only what agrees with them kept; one will do ``quickly`` for what has settled before."""
        m = self.model
        if not quickly:
            m.adjust(LAST_LOSS, iterations=15, tolerance=1e-4, still=100 * STILL)
        m.measure_noise(2 * ROUNDS[-1][0])
        m.triangulate(ROUNDS[-1][0], 0.8 * self.angle)
        self.drop_unsupported()
        m.adjust(LAST_LOSS, iterations=30, tolerance=1e-4 if quickly else 1e-6, still=STILL)
        agree = m.errors() < ROUNDS[-1][0] * m.noise.sigma(m.scale)
        m.inlier &= agree
        m.good &= np.bincount(m.track_of[m.inlier], minlength=len(m.tracks)) >= 2
        m.inlier &= m.good[m.track_of]
