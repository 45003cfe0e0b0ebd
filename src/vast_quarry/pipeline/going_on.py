"""Going on from an alignment that is there, when photos came or went: nothing is started over."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.adding import Known, add_to
from vast_quarry.core.align.frame import Standing
from vast_quarry.core.align.model import Model
from vast_quarry.core.pose import Similarity, fit_similarity, rotation_angle_deg
from vast_quarry.core.words import say
from vast_quarry.pipeline.alike import versions_alike
from vast_quarry.pipeline.attempts import Attempt
from vast_quarry.pipeline.features import Effort, find_features, keys_of
from vast_quarry.pipeline.matching import match_all
from vast_quarry.pipeline.pairs import pairs_to_match
from vast_quarry.pipeline.reuse import made_of
from vast_quarry.pipeline.solution import Solution, groups_in, load_solution
from vast_quarry.pipeline.standing import AS_FOUND, REFRAMING
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.photos import Photo, PhotoList
from vast_quarry.pipeline.store import NOTES, Version

#: share of the photos of an alignment that have to be there still, and of those now that may be new
STILL_THERE, NEW = 0.6, 0.5
#: how far (share of the spread, see :class:`Laid`) cameras may move by what is added: else it is found anew how all stand
MOVED = 0.01
#: points farther off than this many times the median do not say how the frame turned
STRAYED = 4.0


@dataclass
class WentOn:
    """What came of going on: the alignment, how it stands as before, and what its scale comes from."""

    attempt: Attempt
    standing: Standing
    scale_from: str


def go_on(context: Context, listed: PhotoList, photos: list[Photo], obey: bool) -> WentOn | None:
    """Add photos to the newest alignment with the same settings of most of them; None where there is none or it is no help."""
    if context.settings.go_on == "never" or context.settings.sets_apart:
        return None
    for folder, _ in versions_alike(context, REFRAMING):
        made = made_of(folder)
        if groups_in(folder) > 1 or not made.keys:
            continue
        # as they were found there, in tilted views or with contrast lifted: else none of them is known again
        effort = Effort(made.tilts, made.lifted)
        row_of_key = {key: n for n, key in enumerate(keys_of(context, photos, obey, effort))}
        solution = load_solution(folder, AS_FOUND if (folder / f"{AS_FOUND}.npz").exists() else "solution")
        here = {
            k: row_of_key[made.keys[int(solution.numbers[k])]]
            for k in solution.aligned.tolist()
            if made.keys.get(int(solution.numbers[k])) in row_of_key
        }
        old = {row_of_key[k] for k in made.keys.values() if k in row_of_key}
        fresh = set(range(len(photos))) - old
        if len(here) < max(3, STILL_THERE * len(solution.aligned)) or len(fresh) > NEW * len(photos):
            continue
        features = find_features(context, listed, photos, obey, effort)
        rows = {number: row_of_key[key] for number, key in made.keys.items() if key in row_of_key}
        pairs = {(min(rows[a], rows[b]), max(rows[a], rows[b])) for a, b in made.pairs if a in rows and b in rows}
        if fresh:
            pairs |= set(pairs_to_match(context, photos, features, fresh))
        matched = match_all(context, photos, features, sorted(pairs))
        context.stage("Adding photos", 0, len(photos))
        at = list(here)
        known = Known(
            np.array([here[k] for k in at]), solution.rotations[at], solution.centers[at],
            [solution.lens(k) for k in at],
        )  # fmt: skip
        model = add_to(matched.data, known, context.progress("Adding photos"))
        laid = None if model is None else laid_over(solution, model, here)
        if model is None or laid is None or laid.moved > MOVED:
            context.found(
                say(
                    "Photos came or went, but what Cameras {number} found does not hold with them: all were aligned afresh.",
                    number=int(folder.name),
                )
            )
            return None
        _tell(context, fresh, model.placed, folder, laid.moved_mostly)
        standing = Standing(laid.back, _found_by(folder), solution.box, solution.ground, solution.rough)
        attempt = Attempt(features, sorted(pairs), matched.data, model, matched.files)
        return WentOn(attempt, standing, _scale_as_found(solution))
    return None


@dataclass(frozen=True)
class Laid:
    """A model laid over the alignment it went on from.

    Attributes
    ----------
    back : Similarity
        From the model's frame to that of the alignment.
    moved, moved_mostly : float
        How far cameras moved by that, at most and in the median, in parts of how far cameras and points are spread: each
        by its centre, or by what its turn makes of what it looks at.
    """

    back: Similarity
    moved: float
    moved_mostly: float


def laid_over(solution: Solution, model: Model, here: Mapping[int, int]) -> Laid | None:
    """Lay a model over an alignment of some of its photos, by cameras and by points that both hold.

    Centres alone say nothing of a turn about the line on which they stand.

    Parameters
    ----------
    solution : Solution
    model : Model
    here : mapping of int to int
        Row in the model of photos of the alignment.

    Returns
    -------
    Laid or None
        None where too little is in both.
    """
    both = [k for k in here if model.placed[here[k]]]
    rows = [here[k] for k in both]
    old, new = _points_in_both(solution, model, here)
    if len(both) < 2 or len(both) + len(old) < 4:
        return None
    source = np.concatenate([model.centers[rows], model.points[new]])
    target = np.concatenate([solution.centers[both], solution.points[old]])
    back = fit_similarity(source, target)
    # points that were made from other observations since may lie elsewhere: they do not say how the frame turned
    off = np.linalg.norm(back.points(source) - target, axis=1)
    near = off <= STRAYED * np.median(off) + 1e-12
    near[: len(both)] = True
    if near.sum() >= 4:
        back = fit_similarity(source[near], target[near])
    # rms of the spread along all axes, so that cameras on a line have one too
    spread = float(np.sqrt(((target - target.mean(0)) ** 2).sum(1).mean()))
    moved = np.linalg.norm(back.points(model.centers[rows]) - solution.centers[both], axis=1)
    turns = [model.rotations[j] @ back.rotation.T @ solution.rotations[k].T for k, j in zip(both, rows)]
    turned = np.radians([rotation_angle_deg(t) for t in turns])
    far = np.maximum(moved / spread, turned)
    return Laid(back, float(far.max()), float(np.median(far)))


def _points_in_both(
    solution: Solution, model: Model, here: Mapping[int, int]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Points of an alignment (K,) and of a model (K,) that are tied by the same features of the same photos."""
    seen = model.inlier & model.good[model.track_of]
    of_feature = {
        (int(photo), *x): int(track)
        for photo, x, track in zip(
            model.tracks.photo[seen].tolist(), model.xy[seen].astype(np.float32).tolist(), model.track_of[seen].tolist()
        )
    }
    point_of = np.repeat(np.arange(len(solution.points)), np.diff(solution.start))
    votes: dict[int, list[int]] = {}
    for point, photo, x in zip(point_of.tolist(), solution.photo.tolist(), solution.xy.tolist()):
        track = of_feature.get((here.get(photo, -1), *x))
        if track is not None:
            votes.setdefault(point, []).append(track)
    agreed = {point: tracks[0] for point, tracks in votes.items() if len(tracks) > 1 and len(set(tracks)) == 1}
    return np.array(list(agreed), np.int64), np.array(list(agreed.values()), np.int64)


def _found_by(folder: Path) -> str:
    figures = Version.model_validate_json((folder / NOTES).read_bytes()).figures
    return str(figures.get("upright_found_by", figures.get("upright_by", "level photos")))


def _scale_as_found(solution: Solution) -> str:
    """Where the scale of an alignment as it was found comes from: what was measured by hand is laid on anew."""
    return solution.scale_from if solution.scale_from == "mat" else "nothing"


def _tell(context: Context, fresh: set[int], placed: np.ndarray, folder: Path, moved: float) -> None:
    pattern = (
        "{placed} of {count, plural, one {# photo} other {# photos}} that came were added to Cameras {number}; its cameras moved "
        "by {percent} % of their spread."
    )
    if fresh:
        count = int(placed[sorted(fresh)].sum())
        context.found(
            say(pattern, placed=count, count=len(fresh), number=int(folder.name), percent=round(100 * moved, 4))
        )
