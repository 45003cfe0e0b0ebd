"""Points: depth maps and a dense cloud inside the keep box."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any, ClassVar, cast

import numpy as np
from pydantic import Field

from vast_quarry.core.box import KeepBox
from vast_quarry.core.dense.first_look import first_cloud
from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.dense.merging import merged_by_weight
from vast_quarry.core.dense.planes import shared
from vast_quarry.core.dense.strays import without_strays
from vast_quarry.core.dense.views import choose_sources
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import link_all, link_or_copy
from vast_quarry.core.words import say
from vast_quarry.pipeline.alike import made_before
from vast_quarry.pipeline.clearing import ClearEdit, gone_by
from vast_quarry.pipeline.figures import PointsFigures
from vast_quarry.pipeline.solution import Solution, load_solution, save_solution
from vast_quarry.pipeline.step import Context, StepSettings, setting
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.store import NOTES, Version
from vast_quarry.pipeline.units import depth as units
from vast_quarry.pipeline.units import plain


class PointsSettings(StepSettings):
    """How finely to look for depth."""

    made_from: str = setting(
        "depth",
        "Made from",
        "Depth of the photos, for the model; or the places that the alignment knows already, for a first look in seconds.",
        main=True, labels={"depth": "depth", "sparse": "first look"}, pattern="^(depth|sparse)$",
    )  # fmt: skip
    photo_scale: float = setting(
        0.5,
        "Photo size for depth maps",
        "Depth is looked for in the photo made smaller to this share of its sides.",
        main=True, unit="of the photo", usual=(0.25, 1),
        cost="Twice the size: four times as many points, and about four times as long.", gt=0, le=1,
    )  # fmt: skip
    largest_side: int = setting(
        1600,
        "Longest side of depth maps",
        "Depth maps are made no longer than this.",
        unit="px", usual=(1000, 4000), cost="Twice the side takes about four times as long.", ge=200,
    )  # fmt: skip
    sources: int = setting(
        8,
        "Neighbours per depth map",
        "Photos beside it that help to find the depth of a photo.",
        main=True, unit="photos", usual=(4, 12), cost="Takes longer in proportion.", ge=1, le=30,
    )  # fmt: skip
    keep: int = setting(
        5,
        "Best neighbours per pixel",
        "Of the neighbours, as many as count at each pixel: fewer cope better with what hides the subject.",
        unit="photos", usual=(2, 6), ge=1, le=8,
    )  # fmt: skip
    sweeps: tuple[int, ...] = Field((1, 2, 6), description="Sweeps from the finest level to the coarsest")
    least_views: int = setting(
        3,
        "Photos that must agree",
        "A point is kept when so many photos see it at one place: more removes noise, and thin parts too.",
        main=True, unit="photos", usual=(2, 5), ge=2, le=10,
    )  # fmt: skip
    box: dict[str, Any] | None = Field(None, description="Keep box set by hand instead of the suggested one")
    ground: str = setting(
        "leave-out",
        "Ground around the subject",
        "Whether points of the ground are wanted in the cloud and the mesh.",
        main=True, labels={"leave-out": "leave out", "keep": "include"}, pattern="^(leave-out|keep)$",
    )  # fmt: skip
    plain: bool = setting(
        True,
        "Fill plain places",
        "Where photos show nothing to tell depth by, it is taken from what lies about: coarser, and stated so.",
        cost="A fifth of the time of the depth maps more.",
    )
    obey_masks: bool = setting(True, "Points only inside masks", "What masks leave out gives no depth and no points.")
    cleared: tuple[ClearEdit, ...] = Field((), description="Points cleared away by hand, in order")
    came_later: ClassVar[frozenset[str]] = frozenset({"cleared", "made_from", "plain"})


#: bytes a pixel that units of work take: of a depth map, of each photo beside it (at twice the size); of agreement and fusing, of
#: each beside
DEPTH_BYTES, SOURCE_BYTES, AGREE_BYTES, AGREE_SOURCE, GIVE_SOURCE = 110.0, 32.0, 98.0, 14.0, 14.0
#: a photo of fewer pixels is made less small: its depth map holds as many as that of one with so many
USUAL_PIXELS = 1_920_000


def working_box(box: KeepBox, ground: str) -> KeepBox:
    """The keep box; with the ground kept, wider by half and reaching below the ground."""
    if ground != "keep":
        return box
    size = box.size
    low, high = np.asarray(box.low), np.asarray(box.high)
    grow = np.array([0.5 * size[0], 0.5 * size[1], 0.0])
    low, high = low - grow, high + grow
    low[2] -= 0.06 * size.max()
    return KeepBox((low[0], low[1], low[2]), (high[0], high[1], high[2]), box.turn)


#: the cloud of a version, and with what was cleared away by hand, where something was
CLOUD, WHOLE = "cloud.npz", "whole.npz"


def load_cloud(folder: Path) -> Cloud:
    """The cloud of a version of Points."""
    return units.read_cloud(folder / CLOUD)


def depth_scales(solution: Solution, photo_scale: float, largest_side: int) -> dict[int, float]:
    """Scale at which the depth of each aligned photo is looked for, by row.

    As the settings say for each photo by itself; one that shows the subject more coarsely than most is made less small, so that
    small photos beside large ones keep what they have.
    """
    rows = solution.aligned.tolist()
    own, gsd, most = {}, {}, {}
    for r in rows:
        lens = solution.lens(r)
        longest = max(lens.width, lens.height)
        most[r] = min(1.0, largest_side / longest)
        own[r] = min(most[r], photo_scale * max(1.0, float(np.sqrt(USUAL_PIXELS / (lens.width * lens.height)))))
        gsd[r] = float(np.linalg.norm(solution.centers[r] - solution.box.middle)) / lens.fx
    wanted = float(np.median([gsd[r] / own[r] for r in rows])) if rows else 1.0
    # a tenth is no other size
    return {r: own[r] if gsd[r] / own[r] < 1.1 * wanted else min(most[r], gsd[r] / wanted) for r in rows}


class PointsStep:
    """Computes depth maps and fuses them."""

    layer: ClassVar[str] = "points"
    title: ClassVar[str] = "Points"
    parents: ClassVar[tuple[str, ...]] = ("photos", "masks", "cameras")
    settings_model: ClassVar[type[StepSettings]] = PointsSettings

    def run(self, context: Context) -> PointsFigures:
        """Write ``cloud.npz`` and the depth maps."""
        settings: PointsSettings = context.settings
        before = made_before(context, {"cleared"})
        if before is not None:
            return self._cleared_only(context, before)
        solution = load_solution(context.parents["cameras"])
        if settings.box is not None:
            try:
                solution.box = KeepBox.from_dict(settings.box)
            except (KeyError, TypeError, ValueError) as error:
                raise PlainError("The keep box is incomplete.", "Set it again.") from error
        solution.box = working_box(solution.box, settings.ground)
        # units read the solution with the box that this step works in
        save_solution(context.folder, solution)
        if settings.made_from == "sparse":
            return self._first_look(context, solution)
        scales = depth_scales(solution, settings.photo_scale, settings.largest_side)
        rows, sources = self._sources(solution, settings.sources)
        if not rows:
            raise PlainError(
                "The aligned photos share too few points to look for depth between them.",
                "Take more photos with smaller steps between them.",
            )
        self._flatten(context, solution, rows, scales)
        for kind in ("depth", "accepted", "fused"):
            (context.folder / kind).mkdir(exist_ok=True)
        here = str(context.folder)
        jobs = [(here, here, r, sources[r], scales, settings.keep, list(settings.sweeps)) for r in rows]
        pixels = {r: solution.lens(r).width * solution.lens(r).height * scales[r] ** 2 for r in rows}
        most = max(pixels.values())
        context.each(
            "Depth maps", units.depth_of_photo, jobs,
            memory=[DEPTH_BYTES * pixels[r] + SOURCE_BYTES * most * len(sources[r]) for r in rows],
        )  # fmt: skip
        least = min(settings.least_views, max(2, len(rows) - 1))
        known = set(rows)
        agreeing = [(here, here, r, [s for s in sources[r] if s in known], scales, least) for r in rows]
        memory = [(AGREE_BYTES + AGREE_SOURCE * len(sources[r])) * most for r in rows]
        context.each("Agreement between photos", units.accept, agreeing, memory=memory)
        if settings.plain:
            for kind in ("filled", "completed"):
                (context.folder / kind).mkdir(exist_ok=True)
            found = context.each(
                "Plain sides", plain.sides_of_photo, [(here, here, r, scales) for r in rows], memory=memory
            )
            sides = shared(found)
            context.each(
                "Plain places", plain.fill_photo, [(here, here, r, scales, sides) for r in rows], memory=memory
            )
            context.each("Plain places", plain.agree_about_filled, agreeing, memory=memory)
        beside = {r: {s for s in sources[r] if s in known} | {s for s in rows if r in sources[s]} for r in rows}
        memory = [(AGREE_BYTES + GIVE_SOURCE * len(beside[r])) * most for r in rows]
        context.each("Fusing", units.fuse, [(here, here, r, sorted(beside[r]), scales) for r in rows], memory=memory)
        context.stage("Dropping strays", 0, 1)
        cloud = without_strays(
            merged_by_weight(units.read_cloud(context.folder / "fused" / f"{r:05d}.npz") for r in rows)
        )
        shutil.rmtree(context.folder / "flat", ignore_errors=True)
        for kind in ("accepted", "filled", "completed", "fused"):
            shutil.rmtree(context.folder / kind, ignore_errors=True)
        if len(cloud.points) < 100:
            raise PlainError(
                "Hardly any point was seen alike by three photos, so there is no surface to build.",
                "Check that the photos are sharp, that the subject has texture and does not shine, and that it kept still.",
            )
        units.save_cloud(context.folder / (WHOLE if settings.cleared else CLOUD), cloud)
        depth_scale = float(np.median([scales[r] for r in rows]))
        gsd = float(np.median(cloud.gsd)) * depth_scale
        return self._cleared(context, cloud, {"depth_maps": len(rows), "gsd": gsd})

    def _first_look(self, context: Context, solution: Solution) -> PointsFigures:
        """A cloud of the sparse points: no depth is looked for."""
        context.stage("Points for a first look", 0, 1)
        inside = np.flatnonzero(solution.box.inside(solution.points))
        cloud = first_cloud(
            solution.points[inside], solution.colors[inside],
            [solution.photo[solution.start[k] : solution.start[k + 1]] for k in inside], solution.centers,
            np.array([solution.lens(r).fx for r in range(len(solution.numbers))]), solution.sigma[inside],
        )  # fmt: skip
        units.save_cloud(context.folder / (WHOLE if context.settings.cleared else CLOUD), cloud)
        context.found(
            say(
                "A first look: no depth was looked for, {count} places that the alignment knows had to do.",
                count=len(inside),
            )
        )
        return self._cleared(context, cloud, {"depth_maps": 0, "gsd": float(np.median(cloud.gsd))})

    def _cleared_only(self, context: Context, before: Path) -> PointsFigures:
        """A cloud that is there with other points cleared away: nothing else is made again."""
        context.stage("Clearing points away", 0, 1)
        whole = before / (WHOLE if (before / WHOLE).exists() else CLOUD)
        link_all(before, context.folder, besides={CLOUD, WHOLE, NOTES})
        link_or_copy(whole, context.folder / (WHOLE if context.settings.cleared else CLOUD))
        figures = Version.model_validate_json((before / NOTES).read_bytes()).figures
        return self._cleared(context, units.read_cloud(whole), cast(PointsFigures, figures))

    def _cleared(self, context: Context, whole: Cloud, figures: PointsFigures) -> PointsFigures:
        """Write what is left of a cloud, if points are to be cleared away, and tell of it."""
        edits = context.settings.cleared
        cloud = whole
        if edits:
            cloud = whole.only(~gone_by(edits, whole))
            if not len(cloud.points):
                raise PlainError("Nothing would be left of the cloud.", "Take back what was cleared away last.")
            units.save_cloud(context.folder / CLOUD, cloud)
        return {
            **figures, "points": len(cloud.points), "views_median": float(np.median(cloud.views)),
            "cleared": len(whole.points) - len(cloud.points),
            "filled_percent": round(100 * float(cloud.filled.mean()), 1) if len(cloud.points) else 0.0,
        }  # fmt: skip

    def _sources(self, solution: Solution, count: int) -> tuple[list[int], dict[int, list[int]]]:
        chosen = choose_sources(solution.points, solution.start, solution.photo, solution.centers, count)
        aligned = {int(k) for k in solution.aligned}
        sources = {r: [int(s) for s in chosen[r] if int(s) in aligned] for r in sorted(aligned)}
        return [r for r in sorted(aligned) if sources[r]], sources

    def _flatten(self, context: Context, solution: Solution, rows: list[int], scales: dict[int, float]) -> None:
        listed = read_photo_list(context.parents["photos"])
        by_number = {p.number: p for p in listed.photos}
        (context.folder / "flat").mkdir(exist_ok=True)
        here = str(context.folder)
        jobs = []
        for r in rows:
            photo = by_number[int(solution.numbers[r])]
            mask = mask_file(context.parents["masks"], photo.number) if context.settings.obey_masks else None
            jobs.append((here, here, r, str(listed.file(photo)), str(mask) if mask else None, scales[r], photo.tone))
        context.each("Undistorting photos", units.flatten_photo, jobs)
