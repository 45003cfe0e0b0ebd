"""Cameras: features, matches, alignment, standing upright, keep box."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from vast_quarry.core.align.frame import Standing, stand_up
from vast_quarry.core.align.incremental import AlignInput, align
from vast_quarry.core.align.mat import LaidMat, corners_in_space, lay_mat
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.core.camera import Camera
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import is_whole, link_or_copy, write_arrays, write_json
from vast_quarry.core.match.pairs import choose_pairs
from vast_quarry.core.plan.mats import make_mat
from vast_quarry.core.pose import Similarity
from vast_quarry.pipeline.aligned import as_solution, cameras_document, figures_of
from vast_quarry.pipeline.alignment_words import findings, lens_sentences, told
from vast_quarry.pipeline.solution import Solution, load_solution, save_solution, turned
from vast_quarry.pipeline.step import Context, StepSettings, setting
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.photos import Photo, PhotoList, clean_name, read_photo_list
from vast_quarry.pipeline.store import Version
from vast_quarry.pipeline.units import match as match_units


class CamerasSettings(StepSettings):
    """How to align."""

    photo_scale: float = setting(
        1.0,
        "Photo size for features",
        "Features are sought in the photo made smaller to this share of its sides.",
        unit="of the photo", usual=(0.5, 1), cost="Twice the size takes about four times as long.", gt=0, le=1,
    )  # fmt: skip
    largest_side: int = setting(
        3200,
        "Longest side for features",
        "Photos with a longer side are made smaller before features are sought.",
        unit="px", usual=(2000, 6000), cost="Twice the side takes about four times as long.", ge=400,
    )  # fmt: skip
    features: int = setting(
        8000,
        "Features per photo, at most",
        "More help where the subject has little texture or is small in the photo.",
        main=True, usual=(4000, 16_000), cost="Twice as many: matching takes two to four times as long.",
        ge=200, le=60_000,
    )  # fmt: skip
    partners: int = setting(
        14,
        "Match each photo with up to",
        "The photos that look most alike are matched; more help where laps hang together by few photos.",
        main=True, unit="photos", usual=(8, 40), cost="Matching takes longer in proportion.", ge=2, le=200,
    )  # fmt: skip
    local_contrast: bool = setting(
        False,
        "Lift contrast in flat areas",
        "Contrast is evened out in small fields before features are sought: for dark stone and faint paint.",
    )
    ratio: float = setting(
        0.85,
        "Match strictness (lower is stricter)",
        "How clearly a match has to beat the next best one: its distance over that one's.",
        usual=(0.7, 0.9), gt=0.3, lt=1.0,
    )  # fmt: skip
    features_obey_masks: bool = setting(
        True, "Features only inside masks", "What masks leave out does not help to align either."
    )
    ground: bool = setting(
        True, "Stand the model on the ground", "A ground plane is looked for, and becomes height 0.", main=True
    )
    place: bool = setting(
        False,
        "Keep the whole place",
        "Keep all that was photographed instead of the subject in the middle: for rooms, walls, sites.",
        main=True,
    )
    mat: str = setting(
        "none",
        "Marker mat in the photos",
        "A printed mat that stands in the photos gives scale and level.",
        main=True, pattern="^(none|A4|A3|Letter|A4 round|A3 round|Letter round|own)$",
    )  # fmt: skip
    mat_markers: dict[int, list[tuple[float, float]]] | None = Field(
        None, description="Corners in mm of the markers of an own mat, by number"
    )
    level: list[tuple[Literal["x", "y", "z"], float]] = Field(
        default_factory=list, max_length=100, description="Turns by hand about axes of the world, in order (degrees)"
    )


def mat_markers(settings: CamerasSettings) -> dict[int, NDArray[np.float64]] | None:
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


#: photos are not made smaller than this for features (longer side in pixels): too little would be left to tell apart
SMALLEST_USEFUL = 900

#: the alignment before it was levelled by hand, kept beside the levelled one
AS_FOUND = "as-found"


def _lenses(photos: list[Photo]) -> tuple[NDArray[np.int64], NDArray[np.int64], list[Camera], list[bool]]:
    """Photos of one camera, lens, zoom, size and orientation share a lens.

    Those that say nothing of theirs are lent that of most photos of the same size that do, to begin with.

    Returns
    -------
    lens_of, own : (n,) int
        Lens to begin with, and lens of its own, of each photo.
    lenses : list of Camera
    guessed : list of bool
    """
    keys = [p.lens_key for p in photos]
    groups = sorted(set(keys), key=keys.index)
    lens_of = np.array([groups.index(k) for k in keys], np.int64)
    lenses, guessed = [], []
    for g in range(len(groups)):
        p = photos[int(np.flatnonzero(lens_of == g)[0])]
        lens = Camera.simple(int(p.width or 1), int(p.height or 1), float(p.focal or 1.0))
        lenses.append(replace(lens, cx=p.center[0], cy=p.center[1]) if p.center else lens)
        guessed.append(p.focal_source == "guessed")
    lent = lens_of.copy()
    used = np.bincount(lens_of, minlength=len(groups))
    for g in np.flatnonzero(guessed).tolist():
        alike = [
            k for k, c in enumerate(lenses)
            if not guessed[k] and (c.width, c.height, c.cx, c.cy) == (lenses[g].width, lenses[g].height, lenses[g].cx, lenses[g].cy)
        ]  # fmt: skip
        if alike:
            lent[lens_of == g] = max(alike, key=lambda k: used[k])
    return lent, lens_of, lenses, guessed


def photo_scale(photo: Photo, scale: float, largest_side: int) -> float:
    """Scale at which a photo is used: the grade's, less for very large photos, more for very small ones."""
    longest = max(photo.width or 1, photo.height or 1)
    return min(1.0, largest_side / longest, max(scale, SMALLEST_USEFUL / longest))


class CamerasStep:
    """Aligns photos."""

    layer: ClassVar[str] = "cameras"
    title: ClassVar[str] = "Cameras"
    parents: ClassVar[tuple[str, ...]] = ("photos", "masks")
    settings_model: ClassVar[type[StepSettings]] = CamerasSettings

    def run(self, context: Context) -> dict[str, Any]:
        """Write ``solution.npz`` and ``cameras.json``."""
        listed = read_photo_list(context.parents["photos"])
        photos = listed.usable
        before = aligned_before(context)
        if before is not None:
            return _levelled_again(context, listed, before)
        masked = self._features(context, listed, photos)
        pairs = self._pairs(context, photos)
        data = self._matches(context, photos, pairs)
        context.stage("Placing cameras", 0, len(photos))
        model = align(data, context.progress("Placing cameras"), on_step=_Live(context, photos))
        if isinstance(model, Trouble):
            if model.cause in ("nothing moves", "no parallax"):
                model = self._backdrop(context, photos) or model
            raise told(model, [clean_name(p.path) for p in photos])
        laid = self._mat(context, listed, photos, model)
        context.stage("Standing the model up", 0, 1)
        no_ground = masked >= 0.5 * len(photos) or not context.settings.ground
        standing = self._stand(model, no_ground, laid.into if laid else None, context.settings.place)
        solution = as_solution(context.folder / "features", photos, model, standing)
        solution.metric = laid is not None
        if context.settings.level:
            save_solution(context.folder, solution, AS_FOUND)
            solution = turned(solution, context.settings.level)
        save_solution(context.folder, solution)
        write_json(context.folder / "cameras.json", cameras_document(listed, solution))
        for sentence in standing.notes + findings(
            photos, solution, data, self._mirrored(context, photos, solution, data)
        ):
            context.found(sentence)
        figures = figures_of(photos, model, solution, standing, pairs, data)
        for sentence in lens_sentences(figures["lenses"], figures["feature_noise_px"]):
            context.found(sentence)
        found_by: dict[str, Any] = (
            {"upright_by": "hand", "upright_found_by": standing.witness} if context.settings.level else {}
        )
        if laid is not None:
            found_by |= {"mat_corners": laid.corners, "mat_residual_mm": round(laid.residual_mm, 4)}
        return figures | found_by

    def _mat(self, context: Context, listed: PhotoList, photos: list[Photo], model: Model) -> LaidMat | None:
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
            context.found(f"{error} Scale and level are found without it.")
            return None

    def _features(self, context: Context, listed: PhotoList, photos: list[Photo]) -> int:
        settings: CamerasSettings = context.settings
        (context.folder / "features").mkdir(exist_ok=True)
        jobs = []
        masked = 0
        for p in photos:
            mask = mask_file(context.parents["masks"], p.number) if settings.features_obey_masks else None
            masked += mask is not None
            scale = photo_scale(p, settings.photo_scale, settings.largest_side)
            jobs.append(
                (str(listed.file(p)), str(mask) if mask else None, scale, settings.features, p.width,
                 str(context.folder / "features" / f"{p.number:05d}.npz"), p.tone, settings.local_contrast)
            )  # fmt: skip
        context.each("Finding features", match_units.features, jobs)
        return masked

    def _pairs(self, context: Context, photos: list[Photo]) -> list[tuple[int, int]]:
        files = [str(context.folder / "features" / f"{p.number:05d}.npz") for p in photos]
        coarse = context.folder / "coarse.npy"
        count = 1200 if len(photos) <= 150 else 700
        if not is_whole(coarse):
            match_units.gather_coarse(files, count, coarse)
        rows = context.each(
            "Looking for overlap", match_units.likeness_row, [(str(coarse), i) for i in range(len(photos) - 1)]
        )
        likeness = np.zeros((len(photos), len(photos)), np.int64)
        for i, row in enumerate(rows):
            likeness[i, i + 1 :] = row
        write_arrays(context.folder / "likeness.npz", likeness=likeness)
        return choose_pairs(likeness, partners=context.settings.partners)

    def _matches(self, context: Context, photos: list[Photo], pairs: list[tuple[int, int]]) -> AlignInput:
        (context.folder / "matches").mkdir(exist_ok=True)
        folder = context.folder
        by_first: dict[int, list[int]] = {}
        for i, j in pairs:
            by_first.setdefault(i, []).append(j)
        # small bundles, so that both processors stay busy to the end
        jobs = []
        for i, others in by_first.items():
            for k in range(0, len(others), 4):
                part = others[k : k + 4]
                jobs.append(
                    (str(folder), photos[i].number, [photos[j].number for j in part], context.settings.ratio,
                     [(p.width, p.height) for p in [photos[i], *[photos[j] for j in part]]])
                )  # fmt: skip
        context.each("Matching photos", match_units.match_photo, jobs)
        index = {p.number: n for n, p in enumerate(photos)}
        matches: dict[tuple[int, int], NDArray[np.int32]] = {}
        for job in jobs:
            for (a, b), m in match_units.read_matches(folder, job[1], job[2]).items():
                matches[index[a], index[b]] = m
        xy, scale = [], []
        for p in photos:
            with np.load(folder / "features" / f"{p.number:05d}.npz") as f:
                xy.append(f["xy"])
                scale.append(f["scale"])
        lens_of, own, lenses, guessed = _lenses(photos)
        return AlignInput(xy, scale, matches, lens_of, lenses, guessed, own)

    def _backdrop(self, context: Context, photos: list[Photo], most: int = 12) -> Trouble | None:
        """The trouble that a subject moves before a still backdrop, where neighbours show that."""
        pick = np.unique(np.linspace(0, len(photos) - 2, min(most, len(photos) - 1)).astype(int)).tolist()
        jobs = [
            (
                str(context.folder),
                photos[k].number,
                photos[k + 1].number,
                max(photos[k].width or 1, photos[k].height or 1),
            )
            for k in pick
        ]
        found = context.each("Looking for a still backdrop", match_units.moves_before_still, jobs)
        shown = [k for k, moves in zip(pick, found) if moves]
        return Trouble("still backdrop", tuple(shown)) if len(shown) >= max(2, len(jobs) // 4) else None

    def _mirrored(
        self, context: Context, photos: list[Photo], solution: Solution, data: AlignInput, most: int = 6
    ) -> list[int]:
        """Rows of photos that match nothing as they are, but do when they are flipped."""
        partners = np.bincount(np.array(list(data.matches)).reshape(-1), minlength=len(photos))
        alone = [n for n, s in enumerate(solution.states) if s == "loose" and not partners[n]][:most]
        placed = [n for n, s in enumerate(solution.states) if s == "placed"]
        jobs = []
        for n in alone:
            near = sorted(placed, key=lambda k, n=n: abs(k - n))[:4] + placed[:: max(1, len(placed) // 6)]  # type: ignore[misc]
            others = [photos[k].number for k in dict.fromkeys(near)]
            size = max(photos[n].width or 1, photos[n].height or 1)
            jobs.append((str(context.folder), photos[n].number, photos[n].width, others, size))
        found = context.each("Looking at photos that match nothing", match_units.matches_flipped, jobs)
        return [n for n, flipped in zip(alone, found) if flipped]

    def _stand(self, model: Model, masked: bool, mat: Similarity | None, place: bool) -> Standing:
        placed = model.placed
        views = np.bincount(model.track_of[model.inlier], minlength=len(model.tracks))
        sure = model.good & (views >= 3)
        if sure.sum() < 200:
            sure = model.good
        return stand_up(model.rotations[placed], model.centers[placed], model.points[sure], masked, mat, place)


def aligned_before(context: Context) -> Path | None:
    """Folder of a version that differs only in how it was levelled: nothing needs to be aligned again."""
    parents = {layer: int(folder.name) for layer, folder in context.parents.items()}
    mine = context.settings.model_dump(mode="json", exclude={"level"})
    for file in sorted(context.folder.parent.glob("*/version.json")):
        try:
            other = Version.model_validate_json(file.read_bytes())
            # settings of another version of the program may not be read any more
            theirs = CamerasSettings.model_validate(other.settings).model_dump(mode="json", exclude={"level"})
        except (OSError, ValueError):
            continue
        if other.parents == parents and theirs == mine and file.parent.suffix != ".partial":
            return file.parent
    return None


def _levelled_again(context: Context, listed: PhotoList, before: Path) -> dict[str, Any]:
    context.stage("Levelling", 0, 1)
    as_found = load_solution(before, AS_FOUND if (before / f"{AS_FOUND}.npz").exists() else "solution")
    solution = turned(as_found, context.settings.level) if context.settings.level else as_found
    save_solution(context.folder, solution)
    if context.settings.level:
        save_solution(context.folder, as_found, AS_FOUND)
    (context.folder / "features").mkdir(exist_ok=True)
    for file in (before / "features").iterdir():
        link_or_copy(file, context.folder / "features" / file.name)
    write_json(context.folder / "cameras.json", cameras_document(listed, solution))
    version = Version.model_validate_json((before / "version.json").read_bytes())
    for note in version.findings:
        context.found(note)
    found_by = version.figures.get("upright_found_by", version.figures["upright_by"])
    upright = "hand" if context.settings.level else found_by
    context.stage("Levelling", 1, 1)
    return version.figures | {
        "keep_box": solution.box.as_dict(), "upright_by": upright, "upright_found_by": found_by,
    }  # fmt: skip


class _Live:
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
