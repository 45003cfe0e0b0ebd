"""The search for an alignment: growths from several first pairs, groups joined, focal lengths put right.

References
----------
Snavely, N., Seitz, S., Szeliski, R. (2006). Photo tourism: exploring photo collections in 3D. ACM TOG 25(3).
Sturm, P. (1999). Critical motion sequences for the self-calibration of cameras with variable focal length. BMVC.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from vast_quarry.core.align.cycles import contradicted
from vast_quarry.core.align.groups import join
from vast_quarry.core.align.growth import GROWING, PLACED_AT_LEAST, ROUNDS, AlignInput, Ground, Grower, lay_ground
from vast_quarry.core.align.model import Bools, Join, Model
from vast_quarry.core.align.picked import join_by_places, with_picked
from vast_quarry.core.align.plausible import doubts, take_out
from vast_quarry.core.align.start import Pair, first_pairs
from vast_quarry.core.align.trouble import Trouble, cannot_be_aligned, moves_of, what_is_wrong
from vast_quarry.core.align.zoom import doubtful, refocus
from vast_quarry.core.camera import Camera
from vast_quarry.core.progress import Progress, silent

#: first pairs tried, and the share of the photos that is as good as all
ATTEMPTS, NEARLY_ALL = 4, 0.8
#: photos of the smallest group that is aligned by itself; least angle (degrees) between rays once groups are joined
FEWEST_APART, JOINED_ANGLE = 3, 1.0
#: features so far from each other (thousandths of the longer side) may be of one place
ONE_PLACE = 4.0


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
AGREES, AGREES_BEFORE_STILL = 0.2, 0.55
#: where a backdrop was left out, a model of fewer photos, as a share of all, is one of chance
FEW_BEFORE_STILL = 0.4


def agrees_with_little(m: Model, least: float = AGREES) -> bool:
    """Whether a model explains too little of what its photos follow: it was put together from chance matches.

    Measured: real and rendered sets that can be aligned 0.6 and more; a box pushed about before a camera that stands still,
    whose photos can all be "placed", 0.1 to 0.44.
    """
    placed = m.placed[m.tracks.photo]
    followed = placed & (np.bincount(m.track_of[placed], minlength=len(m.tracks)) >= 3)[m.track_of]
    return bool(followed.any() and m.inlier[followed].mean() < least)


def _moves(data: AlignInput, ground: Ground, most: int = 96) -> list:
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
    parts: Sequence[Bools] = (),
) -> Model | Trouble:
    """Align photos from verified matches.

    With ``parts`` (each (n,) bool) the photos of each are aligned by themselves first, and what is found is joined then.

    The best of up to ``attempts`` growths from different first pairs, stopping when four fifths of what hangs together are
    placed. Photos that are left and hang together among themselves are aligned by themselves and joined by what both show
    (:mod:`.groups`); those that cannot be joined are :attr:`.Model.apart`. When nothing holds, why. ``on_step`` is shown the
    model after every photo placed. Pairs that contradict the others (:mod:`.cycles`) count as not matched, and photos that can
    hardly stand where they were placed (:mod:`.plausible`) are taken out and told in :attr:`.Model.doubted`.
    """
    n = len(data.xy)
    if not data.matches:
        return Trouble("too few matches", ())
    data = with_picked(without_contradicted(data))
    ground = lay_ground(data)
    moves = _moves(data, ground)
    if cannot_be_aligned(moves):
        return what_is_wrong(moves, n)
    before_still = data.before_still or what_is_wrong(moves, n).cause == "still backdrop"
    least = AGREES_BEFORE_STILL if before_still else AGREES
    search = Search(data, ground, progress, attempts, on_step, least)
    found = [m for m in (search.best(part) for part in parts or [np.ones(n, bool)]) if m is not None]
    if data.before_still and (not found or max(int(m.placed.sum()) for m in found) < FEW_BEFORE_STILL * n):
        return Trouble("still backdrop", ())
    if not found:
        return what_is_wrong(moves, n)
    best, *others = sorted(found, key=lambda m: -int(m.placed.sum()))
    model = search.with_the_rest(search.refocused(best) if not parts else best, others)
    if parts:
        apart, model = model.apart, search.refocused(model)
        model.apart = [m for m in apart if not (m.placed & model.placed).any()]
    for group in (model, *model.apart):
        search.doubted(group)
    return model


def without_contradicted(data: AlignInput) -> AlignInput:
    """What alignment starts from, without pairs whose matches contradict those with third photos."""
    longest = float(np.median([max(c.width, c.height) for c in data.lenses]))
    bad = contradicted(data.xy, data.matches, ONE_PLACE * longest / 1000)
    return replace(data, matches={k: m for k, m in data.matches.items() if k not in bad}) if bad else data


def _relative_noise(m: Model) -> float:
    """Usual error of observations, in thousandths of the photos."""
    return float(np.median(m.relative_sigma()[m.inlier])) if m.inlier.any() else np.inf


def _error_across(m: Model, ours: Bools, theirs: Bools) -> tuple[int, float]:
    """Points seen from both parts, and the RMS error in pixels of what is seen of them."""
    seen = [np.zeros(len(m.tracks), bool) for _ in range(2)]
    for row, part in zip(seen, (ours, theirs)):
        row[m.track_of[m.inlier & part[m.tracks.photo]]] = True
    both = seen[0] & seen[1]
    e = m.errors()[m.inlier & both[m.track_of]]
    return int(both.sum()), float(np.sqrt((e**2).mean())) if len(e) else np.inf


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
        m.triangulate(2 * GROWING, grower.angle)
        return grower

    def with_the_rest(self, model: Model, others: Sequence[Model] = ()) -> Model:
        """Align what was left by itself, and join it and ``others`` to the model where both show enough of the same."""
        apart = list(others)
        left = ~np.any([m.placed for m in (model, *others)], axis=0)
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
        # what cannot be joined yet may be once others are
        tried = True
        while tried:
            tried = False
            for other in sorted(apart, key=lambda m: -int(m.placed.sum())):
                joined = self.joined(model, other)
                if joined is not None:
                    model, apart, tried = joined, [a for a in apart if a is not other], True
        model.apart = sorted(apart, key=lambda m: -int(m.placed.sum()))
        return model

    def doubted(self, model: Model) -> None:
        """Take photos out that can hardly stand where they were placed, and settle the rest."""
        data = self.data
        order = np.arange(len(data.xy)) if data.order is None else data.order
        model.doubted = doubts(model, data.xy, data.matches, order)
        if not model.doubted or model.placed.sum() - len(model.doubted) < 3:
            model.doubted = []
            return
        take_out(model, [d.photo for d in model.doubted], ROUNDS[-1][0], JOINED_ANGLE)
        grower = Grower(data, self.ground, list(model.lenses), self.progress)
        grower.model, grower.angle = model, JOINED_ANGLE
        grower.settle()

    def joined(self, model: Model, other: Model) -> Model | None:
        """Both as one, solved together afresh, with what can be placed now besides; None where too little ties them."""
        moved = join(model, other, self.ground.tracks)
        if moved is None and self.data.picked:
            moved, miss = join_by_places(model, other, self.data.picked)
            if moved is None and miss:
                model.misfits = list(miss.items())
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
        before = _error_across(m, model.placed, other.placed)
        grower.refine()
        grower.grow()
        grower.finish()
        after = _error_across(m, model.placed, other.placed)
        m.joins = [*model.joins, Join(np.flatnonzero(other.placed), *before, after[1])]
        lost = (model.placed & ~m.placed).sum()
        gained = (m.placed & ~model.placed).sum()
        return m if gained > max(lost, 1) and not agrees_with_little(m, self.least) else None
