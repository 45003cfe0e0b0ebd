"""Incremental growth: a good first pair, then one photo after another, refined as it goes.

References
----------
Snavely, N., Seitz, S., Szeliski, R. (2006). Photo tourism: exploring photo collections in 3D. ACM TOG 25(3).
Wu, C. (2013). Towards linear-time incremental structure from motion. 3DV (adjustments at geometric growth,
re-triangulation).
Lepetit, V., Moreno-Noguer, F., Fua, P. (2009). EPnP; Persson, M., Nordberg, K. (2018). Lambda twist P3P (through
PoseLib, for the resection).
Sturm, P. (1999). Critical motion sequences for the self-calibration of cameras with variable focal length. BMVC.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import poselib
from numpy.typing import NDArray

from vast_quarry.core.align.groups import join
from vast_quarry.core.align.lens import LensPrior, prior_of
from vast_quarry.core.align.model import Bools, Model
from vast_quarry.core.align.noise import first_guess
from vast_quarry.core.align.release import proven_unknowns, shares_lens, try_focals
from vast_quarry.core.align.start import FirstPair, Pair, Sharing, first_pairs
from vast_quarry.core.align.tracks import Tracks, build_tracks
from vast_quarry.core.align.trouble import Trouble, cannot_be_aligned, moves_of, what_is_wrong
from vast_quarry.core.align.zoom import doubtful, refocus
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
#: first pairs tried, and the share of the photos that is as good as all
ATTEMPTS, NEARLY_ALL = 4, 0.8
#: photos of the smallest group that is aligned by itself; least angle (degrees) between rays once groups are joined
FEWEST_APART, JOINED_ANGLE = 3, 1.0
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
    """

    xy: list[NDArray[np.float32]]
    scale: list[NDArray[np.float32]]
    matches: Matches
    lens_of: NDArray[np.int64]
    lenses: list[Camera]
    guessed: list[bool]
    own_lens: NDArray[np.int64] | None = None


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


def guesses(data: AlignInput, ground: Ground) -> list[list[Camera]]:
    """Lenses to begin growths with, in turn: as they are, and with guessed focal lengths longer and shorter.

    Two views that look at one place do not say their focal length (Sturm 1999), so that it is not asked of pairs.
    """
    out = [ground.lenses]
    if any(data.guessed):
        for factor in (1.7, 0.65):
            out.append(
                [
                    replace(c, fx=c.fx * factor, fy=c.fy * factor) if guess else c
                    for c, guess in zip(ground.lenses, data.guessed)
                ]
            )
    return out


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
            m.open_tracks(GROWING, self.angle)
            if m.good.sum() < FIRST_PAIR_POINTS:
                m.placed[[p.i, p.j]] = False
                return False
            m.adjust(loss)
        m.open_tracks(GROWING, self.angle)
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
        m.open_tracks(GROWING, self.angle, np.unique(m.track_of[m.observations_of(photo)]))
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
        m.hold_but(m.decide())
        m.adjust_by_some(2.0, 12, 1e-3, GROWING, self.angle)
        if m.placed.sum() >= 4:
            m.measure_noise(2 * GROWING)
        m.open_tracks(GROWING, self.angle)
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
        m.open_tracks(GROWING, self.angle, np.unique(m.track_of[theirs]))

    def finish(self) -> None:
        """Final rounds, tighter and tighter: lenses as far as the photos know them, tracks that went astray split."""
        m = self.model
        for number, (threshold, loss) in enumerate(ROUNDS):
            m.hold_but(m.decide())
            m.adjust_by_some(loss, 12, 5e-4, threshold, 0.8 * self.angle)
            m.measure_noise(2 * threshold)
            if number == 0:
                m.split(GROWING)
                shares_lens(m, self.data.own_lens)
            m.open_tracks(threshold, 0.8 * self.angle)
            self.drop_unsupported()
            self.tries[:], self.refused[:] = 0, 0
            for i in self.candidates():
                self.resect(i)
        m.hold_but(proven_unknowns(m))
        m.adjust(LAST_LOSS, iterations=15, tolerance=1e-4)
        m.measure_noise(2 * ROUNDS[-1][0])
        m.open_tracks(ROUNDS[-1][0], 0.8 * self.angle)
        self.drop_unsupported()
        m.adjust(LAST_LOSS, iterations=30, tolerance=1e-6)
        agree = m.errors() < ROUNDS[-1][0] * m.noise.sigma(m.scale)
        m.inlier &= agree
        m.good &= np.bincount(m.track_of[m.inlier], minlength=len(m.tracks)) >= 2
        m.inlier &= m.good[m.track_of]


def stands_in_one_place(m: Model) -> bool:
    """Whether nearly all cameras were put on one spot, seen from their points: no depth can come of it.

    A few may be elsewhere by chance matches, as where something was pushed about before a camera that stood still.
    """
    centers, points = m.centers[m.placed], m.points[m.good]
    if len(points) < 4:
        return True
    reach = float(np.median(np.linalg.norm(points - np.median(centers, axis=0), axis=1)))
    off = np.linalg.norm(centers - np.median(centers, axis=0), axis=1)
    return bool(np.quantile(off, 0.8) < 0.006 * reach)


#: of places that three placed photos or more follow, the least share that has to agree with a model; and where a backdrop
#: seems to stand still
AGREES, AGREES_BEFORE_STILL = 0.2, 0.4


def agrees_with_little(m: Model, least: float = AGREES) -> bool:
    """Whether a model explains too little of what its photos follow: it was put together from chance matches.

    Measured: real and rendered sets that can be aligned 0.6 and more; a box pushed about before a camera that stands still,
    whose photos can all be "placed", 0.1 to 0.22.
    """
    placed = m.placed[m.tracks.photo]
    followed = placed & (np.bincount(m.track_of[placed], minlength=len(m.tracks)) >= 3)[m.track_of]
    return bool(followed.any() and m.inlier[followed].mean() < least)


def _moves(data: AlignInput, ground: Ground, most: int = 160) -> list:
    """How places move between photos, over pairs spread from those that share most to those that share least."""
    pairs = ground.sharing.candidates(14)
    pick = np.unique(np.linspace(0, len(pairs) - 1, min(most, len(pairs))).astype(int)) if pairs else np.zeros(0, int)
    out = []
    for k in pick:
        p: Pair = ground.sharing.pair(*pairs[k])
        if ground.lenses[data.lens_of[p.i]].width == ground.lenses[data.lens_of[p.j]].width:
            out.append(moves_of(p.i, p.j, ground.xy[p.a], ground.xy[p.b], ground.lenses[data.lens_of[p.i]]))
    return out


def align(
    data: AlignInput,
    progress: Progress = silent,
    attempts: int = ATTEMPTS,
    on_step: Callable[[Model], None] = lambda model: None,
) -> Model | Trouble:
    """Align photos from verified matches.

    The best of up to ``attempts`` growths from different first pairs, stopping when four fifths of what hangs together are
    placed. Photos that are left and hang together among themselves are aligned by themselves and joined by what both show
    (:mod:`.groups`); those that cannot be joined are :attr:`.Model.apart`. When nothing holds, why. ``on_step`` is shown the
    model after every photo placed.
    """
    n = len(data.xy)
    if not data.matches:
        return Trouble("too few matches", ())
    ground = lay_ground(data)
    moves = _moves(data, ground)
    if cannot_be_aligned(moves):
        return what_is_wrong(moves, n)
    least = AGREES_BEFORE_STILL if what_is_wrong(moves, n).cause == "still backdrop" else AGREES
    search = Search(data, ground, progress, attempts, on_step, least)
    best = search.best(np.ones(n, bool))
    if best is None:
        return what_is_wrong(moves, n)
    return search.with_the_rest(search.refocused(best))


def _relative_noise(m: Model) -> float:
    """Usual error of observations, in thousandths of the photos."""
    use = m.inlier
    return (
        float(1000 * np.median((m.noise.sigma(m.scale) / m.sizes[m.tracks.photo].max(1))[use])) if use.any() else np.inf
    )


@dataclass
class Search:
    """The search for a model, among all photos or some."""

    data: AlignInput
    ground: Ground
    progress: Progress = silent
    attempts: int = ATTEMPTS
    on_step: Callable[[Model], None] = lambda model: None
    least: float = AGREES

    def best(self, among: Bools, lenses: list[Camera] | None = None) -> Model | None:
        """The largest model of growths from several first pairs, stopping when nearly all that are tied are placed.

        With ``lenses`` only these are begun with.
        """
        count = self.ground.sharing.count[np.ix_(among, among)]
        tied = int((count.max(0, initial=0) >= PLACED_AT_LEAST).sum())
        best: Model | None = None
        for begin in guesses(self.data, self.ground) if lenses is None else [lenses]:
            best = self._grown(begin, tied, best, among)
            if best is not None and best.placed.sum() >= NEARLY_ALL * tied:
                break
        return best

    def _grown(self, lenses: list[Camera], tied: int, best: Model | None, among: Bools) -> Model | None:
        used: list[Bools] = []
        ground = self.ground
        for first in first_pairs(ground.sharing, ground.xy, self.data.lens_of, lenses, 1.0, among=among):
            if len(used) >= self.attempts:
                break
            if any(u[first.pair.i] and u[first.pair.j] for u in used):
                continue
            grower = Grower(self.data, ground, lenses, self.progress, among)
            grower.on_step = self.on_step
            if not grower.start(first):
                continue
            grower.grow()
            if grower.model.placed.sum() >= 3:
                grower.finish()
            m = grower.model
            used.append(m.placed.copy())
            if (
                (best is None or m.placed.sum() > best.placed.sum())
                and m.placed.sum() >= 2
                and not stands_in_one_place(m)
                and not agrees_with_little(m, self.least)
            ):
                best = m
            if best is not None and best.placed.sum() >= NEARLY_ALL * tied:
                break
        return best

    def refocused(self, model: Model) -> Model:
        """A model that explains too little, with focal lengths that are other than was said; as it was where that is no help."""
        if not doubtful(model):
            return model
        start, found = refocus(model, JOINED_ANGLE)
        if not found:
            return model
        # lenses that were lent and lent back are settled by now
        grower = self._from(start, replace(self.data, own_lens=None))
        grower.refine()
        grower.grow()
        grower.finish()
        m = grower.model
        better = m.inlier.sum() > model.inlier.sum() or _relative_noise(m) < 0.8 * _relative_noise(model)
        if m.placed.sum() < model.placed.sum() or not better or agrees_with_little(m, self.least):
            return model
        m.refocused = found
        return m

    def _from(self, start: Model, data: AlignInput) -> Grower:
        """A growth that goes on from a model."""
        grower = Grower(data, self.ground, list(start.lenses), self.progress)
        grower.on_step, grower.angle, grower.looks = self.on_step, JOINED_ANGLE, []
        m = grower.model
        m.noise, m.free, m.lens_of, m.prior = start.noise, start.free.copy(), start.lens_of.copy(), start.prior
        m.rotations[start.placed], m.centers[start.placed] = start.rotations[start.placed], start.centers[start.placed]
        m.placed = start.placed.copy()
        m.open_tracks(2 * GROWING, grower.angle)
        return grower

    def with_the_rest(self, model: Model) -> Model:
        """Align what was left by itself, and join it to the model where both show enough of the same."""
        apart: list[Model] = []
        left = ~model.placed
        while True:
            tied = self.ground.sharing.count[np.ix_(left, left)].max(0, initial=0) >= PLACED_AT_LEAST
            if left.sum() < FEWEST_APART or tied.sum() < FEWEST_APART:
                break
            # what was solved of the lenses serves the others too
            found = self.best(left, list(model.lenses))
            if found is None or found.placed.sum() < FEWEST_APART:
                break
            apart.append(found)
            left &= ~found.placed
        for other in list(apart):
            joined = self.joined(model, other)
            if joined is not None:
                model, apart = joined, [a for a in apart if a is not other]
        model.apart = sorted(apart, key=lambda m: -int(m.placed.sum()))
        return model

    def joined(self, model: Model, other: Model) -> Model | None:
        """Both as one, solved together afresh, with what can be placed now besides; None where too little ties them."""
        moved = join(model, other, self.ground.tracks)
        if moved is None:
            return None
        both = copy.copy(model)
        both.rotations, both.centers = model.rotations.copy(), model.centers.copy()
        both.rotations[moved.placed], both.centers[moved.placed] = (
            moved.rotations[moved.placed],
            moved.centers[moved.placed],
        )
        both.placed = model.placed | moved.placed
        grower = self._from(both, self.data)
        m = grower.model
        m.refocused = model.refocused
        grower.refine()
        grower.grow()
        grower.finish()
        lost = (model.placed & ~m.placed).sum()
        gained = (m.placed & ~model.placed).sum()
        return m if gained > max(lost, 1) and not agrees_with_little(m, self.least) else None
