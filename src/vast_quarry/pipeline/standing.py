"""How an aligned model is stood up: by a marker mat, by what the cameras and the ground show, by hand; and watched growing."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.frame import Kind, Standing, world_frame
from vast_quarry.core.align.mat import LaidMat, corners_in_space, lay_mat
from vast_quarry.core.align.model import Model
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import link_or_copy, write_arrays, write_json
from vast_quarry.core.plan.mats import make_mat
from vast_quarry.core.pose import Similarity
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.aligned import box_figures, cameras_document
from vast_quarry.pipeline.alike import made_before
from vast_quarry.pipeline.figures import CamerasFigures, ScaleFigures
from vast_quarry.pipeline.grouped import FILE as GROUPS_TOLD
from vast_quarry.pipeline.grouped import told_again
from vast_quarry.pipeline.looking import SUBJECTS, other_boxes
from vast_quarry.pipeline.reuse import MADE
from vast_quarry.pipeline.scaling import scaled_by_hand
from vast_quarry.pipeline.solution import Solution, group_name, groups_in, load_solution, save_solution, turned
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.photos import Photo, PhotoList, clean_name
from vast_quarry.pipeline.store import NOTES, Version
from vast_quarry.pipeline.units import match as match_units

#: the alignment before it was levelled by hand, kept beside the levelled one
AS_FOUND = "as-found"


def mat_markers(settings: Any) -> dict[int, NDArray[np.float64]] | None:
    """Corners in mm of the mat's markers by number; None where no mat is asked for.

    Raises
    ------
    PlainError
        When an own mat is asked for that is not there.
    """
    if settings.mat == "none":
        return None
    if settings.mat == "own":
        if not settings.mat_markers:
            raise PlainError("An own marker mat is asked for, but it is not there.", "Give its JSON file.")
        return {n: np.array(c, float) for n, c in settings.mat_markers.items()}
    paper, _, shape = settings.mat.partition(" ")
    return {m.number: m.corners for m in make_mat(paper, shape == "round").markers}


def mat_over(context: Context, listed: PhotoList, photos: list[Photo], model: Model) -> LaidMat | None:
    """The marker mat laid over the model, where one is asked for and seen."""
    markers = mat_markers(context.settings)
    if markers is None:
        return None
    rows = [int(n) for n in np.flatnonzero(model.placed)]
    jobs = [(str(listed.file(photos[n])),) for n in rows]
    found = context.each("Finding the marker mat", match_units.markers, jobs)
    lenses = [model.lenses[int(model.lens_of[n])] for n in rows]
    space = corners_in_space(found, lenses, model.rotations[rows], model.centers[rows])
    try:
        return lay_mat(markers, space)
    except PlainError as error:
        context.found(say("{why} Scale and level are found without it.", why=error.said))
        return None


def stand(model: Model, masked: bool, mat: Similarity | None, kind: Kind) -> Standing:
    placed = model.placed
    views = np.bincount(model.track_of[model.inlier], minlength=len(model.tracks))
    sure = model.good & (views >= 3)
    if sure.sum() < 200:
        sure = model.good
    return world_frame(model.rotations[placed], model.centers[placed], model.points[sure], masked, mat, kind)


#: settings that change where a finished alignment stands, not the alignment
REFRAMING = {"level", "center", "group", "bars", "height", "subject"}


def aligned_before(context: Context) -> Path | None:
    """Folder of a version that differs only in how it was stood up: nothing needs to be aligned again."""
    return made_before(context, REFRAMING)


def stood_again(context: Context, listed: PhotoList, before: Path) -> CamerasFigures:
    """A finished alignment levelled, scaled or its other group used; nothing is aligned again."""
    context.stage("Standing the model up", 0, 1)
    groups = groups_in(before)
    found = [load_solution(before, group_name(g + 1)) for g in range(groups)] if groups > 1 else []
    if not found:
        found = [load_solution(before, AS_FOUND if (before / f"{AS_FOUND}.npz").exists() else "solution")]
    for part in ("features", "matches"):
        (context.folder / part).mkdir(exist_ok=True)
        for file in (before / part).glob("*.npz"):
            link_or_copy(file, context.folder / part / file.name)
    kept = [SUBJECTS.format(g + 1) for g in range(groups)]
    for name in (MADE, GROUPS_TOLD, *kept):
        if (before / name).exists():
            link_or_copy(before / name, context.folder / name)
    version = Version.model_validate_json((before / NOTES).read_bytes())
    told, said = told_again(before, context.settings.group, version.figures, version.findings)
    for note in said:
        if not about_standing(note):
            context.found(note)
    figures = cast(CamerasFigures, {k: v for k, v in told.items() if k not in ScaleFigures.__annotations__})
    return {**figures, **stood_by_hand(context, listed, found, told)}


def stood_by_hand(
    context: Context, listed: PhotoList, found: list[Solution], before: Mapping[str, Any]
) -> CamerasFigures:
    """Write the group that is asked for as it is levelled and scaled by the settings; what is told of that.

    Parameters
    ----------
    found : list of Solution
        As each group of photos was found, the largest first.
    before : mapping
        Figures that say what told which way is up.
    """
    settings = context.settings
    if settings.group > len(found):
        raise PlainError(
            say("There is no group {group}: all placed photos hang together.", group=settings.group)
            if len(found) == 1
            else say("There is no group {group}: there are {count}.", group=settings.group, count=len(found)),
            "Choose group 1.",
        )
    if len(found) > 1:
        for number, one in enumerate(found, 1):
            save_solution(context.folder, one, group_name(number))
    as_found = found[settings.group - 1]
    if settings.subject > 1:
        boxes = other_boxes(context.folder, settings.group)
        if settings.subject > len(boxes) + 1:
            raise PlainError(
                say("There is no body {number}: the photos show {count} that could be the subject.",
                    number=settings.subject, count=len(boxes) + 1),
                "Choose body 1, or set the keep box by hand.",
            )  # fmt: skip
        as_found = replace(as_found, box=boxes[settings.subject - 2])
    by_hand = bool(settings.level) or settings.center is not None
    solution = turned(as_found, settings.level, settings.center) if by_hand else as_found
    paths = [p.path for p in listed.usable]
    solution, scale, notes = scaled_by_hand(solution, as_found, settings.bars, settings.height_m, paths)
    if solution is not as_found:
        save_solution(context.folder, as_found, AS_FOUND)
    save_solution(context.folder, solution)
    write_json(context.folder / "cameras.json", cameras_document(listed, solution))
    for note in notes:
        context.found(note)
    found_by = before.get("upright_found_by", before.get("upright_by", "level photos"))
    context.stage("Standing the model up", 1, 1)
    own = {state: solution.states.count(state) for state in ("placed", "weak", "loose", "implausible")}
    return cast(
        CamerasFigures,
        {
            **own, "apart": solution.states.count("apart"), "group": settings.group, **scale,
            "keep_box": box_figures(solution.box), "upright_by": "hand" if settings.level else found_by,
            "upright_found_by": found_by,
        },
    )  # fmt: skip


#: beginnings of what is said of standing and scale, which is said anew
_OF_STANDING = ("No scale yet", "The scale is rough", "{count, plural, one {# measured distance", "{bar} misses most")


def about_standing(said: Said) -> bool:
    """Whether a sentence is about how a model stands, so that another stand says it anew."""
    inner = [v for v in said.values.values() if isinstance(v, Said)]
    return any(s.pattern.startswith(_OF_STANDING) for s in (said, *inner))


class Live:
    """Writes the growing model for those who watch, at most once a second."""

    def __init__(self, context: Context, photos: list[Photo]) -> None:
        self.context, self.photos, self._last = context, photos, 0.0

    def __call__(self, model: Model) -> None:
        clock = time.monotonic()
        if clock - self._last < 1.0:
            return
        self._last = clock
        points = model.points[model.good]
        write_arrays(
            self.context.folder / "live.npz", placed=model.placed, rotations=model.rotations, centers=model.centers,
            focal=model.focal, sizes=np.array([(p.width, p.height) for p in self.photos]),
            points=points[:: max(1, len(points) // 20_000)], paths=np.array([clean_name(p.path) for p in self.photos]),
        )  # fmt: skip
