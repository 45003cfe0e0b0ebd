"""Going on from an alignment that is there, when photos came or went: nothing is started over."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from vast_quarry.core.align.adding import Known, add_to
from vast_quarry.core.align.frame import Standing
from vast_quarry.core.pose import fit_similarity
from vast_quarry.core.words import say
from vast_quarry.pipeline.alike import versions_alike
from vast_quarry.pipeline.attempts import Attempt
from vast_quarry.pipeline.joining import find_features, match_all, pairs_to_match
from vast_quarry.pipeline.reuse import made_of
from vast_quarry.pipeline.solution import Solution, groups_in, load_solution
from vast_quarry.pipeline.standing import AS_FOUND, REFRAMING
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.photos import Photo, PhotoList
from vast_quarry.pipeline.store import NOTES, Version

#: share of the photos of an alignment that have to be there still, and of those now that may be new
STILL_THERE, NEW = 0.6, 0.5
#: how far (share of their spread) the cameras may move by what is added: else it is found anew how all stand
MOVED = 0.01


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
    candidates = [p for p, _ in versions_alike(context, REFRAMING) if groups_in(p) == 1 and made_of(p)[0]]
    if not candidates:
        return None
    masked = find_features(context, listed, photos, obey)
    keys, _, _ = made_of(context.folder)
    for folder in candidates:
        their_keys, _, their_pairs = made_of(folder)
        row_of_key = {keys[p.number]: n for n, p in enumerate(photos) if p.number in keys}
        solution = load_solution(folder, AS_FOUND if (folder / f"{AS_FOUND}.npz").exists() else "solution")
        here = {
            k: row_of_key[their_keys[int(solution.numbers[k])]]
            for k in solution.aligned.tolist()
            if their_keys.get(int(solution.numbers[k])) in row_of_key
        }
        old = {row_of_key[k] for k in their_keys.values() if k in row_of_key}
        fresh = set(range(len(photos))) - old
        if len(here) < max(3, STILL_THERE * len(solution.aligned)) or len(fresh) > NEW * len(photos):
            continue
        rows = {number: row_of_key[key] for number, key in their_keys.items() if key in row_of_key}
        pairs = {(min(rows[a], rows[b]), max(rows[a], rows[b])) for a, b in their_pairs if a in rows and b in rows}
        if fresh:
            pairs |= set(pairs_to_match(context, photos, fresh))
        data = match_all(context, photos, sorted(pairs))
        context.stage("Adding photos", 0, len(photos))
        at = list(here)
        known = Known(
            np.array([here[k] for k in at]), solution.rotations[at], solution.centers[at],
            [solution.lens(k) for k in at],
        )  # fmt: skip
        model = add_to(data, known, context.progress("Adding photos"))
        if model is None:
            return None
        both = [k for k in at if model.placed[here[k]]]
        back = fit_similarity(model.centers[[here[k] for k in both]], solution.centers[both])
        moved = back.points(model.centers[[here[k] for k in both]]) - solution.centers[both]
        spread = np.linalg.norm(solution.centers[both] - solution.centers[both].mean(0), axis=1).mean()
        if np.linalg.norm(moved, axis=1).max() > MOVED * spread:
            return None
        _tell(context, fresh, model.placed, folder, float(np.median(np.linalg.norm(moved, axis=1)) / spread))
        standing = Standing(back, _found_by(folder), solution.box, solution.ground, solution.rough)
        return WentOn(Attempt(masked, sorted(pairs), data, model), standing, _scale_as_found(solution))
    return None


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
