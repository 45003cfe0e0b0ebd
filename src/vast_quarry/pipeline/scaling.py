"""Scale of an alignment: by distances that were measured, by a rough height, or none yet."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from vast_quarry.core.align.frame import ROOM
from vast_quarry.core.align.scale import Bar, Place, place_from_marks, scale_from_bars
from vast_quarry.core.box import KeepBox
from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import Said, say, together
from vast_quarry.pipeline.figures import BarFigures, ScaleFigures
from vast_quarry.pipeline.solution import ALIGNED, Solution

#: sparse points in the keep box that tell how high the subject is
TELL_HEIGHT = 200

#: how well a place that was picked on the cloud is known, in pixels of the photos (one standard deviation)
PICKED_PX = 1.5


class Spot(BaseModel):
    """A place: where it is marked in photos (path to pixel at full size), or picked in space as the model was found."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    marks: dict[str, tuple[float, float]] = Field(default_factory=dict, max_length=200)
    at: tuple[float, float, float] | None = None

    @model_validator(mode="after")
    def _somewhere(self) -> Self:
        if self.at is None and len(self.marks) < 2:
            raise ValueError("a place is marked in two photos at least, or picked in space")
        return self


class MeasuredBar(BaseModel):
    """A distance that was measured between two places."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    name: str = Field(min_length=1, max_length=60)
    a: Spot
    b: Spot
    length_mm: float = Field(gt=0, le=1e6, description="Measured length (mm)")
    within_mm: float = Field(0.5, gt=0, le=1e4, description="How well it was measured: one standard deviation (mm)")
    checks: bool = Field(False, description="Only checks: takes no part in the fit")


#: what the scale came from
ScaleFrom = Literal["mat", "bars", "height", "nothing"]


def scaled(s: Solution, factor: float, scale_from: ScaleFrom) -> Solution:
    """The same alignment, all lengths times a factor."""
    low, high = (tuple(factor * np.asarray(x)) for x in (s.box.low, s.box.high))
    box = KeepBox(low, high, s.box.turn)
    return replace(
        s,
        centers=factor * s.centers,
        points=factor * s.points,
        box=box,
        rough=factor * s.rough,
        scale_from=scale_from,
        sigma=np.float32(factor) * s.sigma,
        center_sigma=np.float32(factor) * s.center_sigma,
    )


def place_of(spot: Spot, s: Solution, rows: Mapping[str, int], name: str) -> Place:
    """Where a spot is in an alignment; ``rows`` are those of photos by path.

    Raises
    ------
    PlainError
        When too few of its photos are placed, or they look along one ray.
    """
    seen = {rows[p]: px for p, px in spot.marks.items() if p in rows and s.states[rows[p]] in ALIGNED}
    if len(seen) >= 2:
        index = list(seen)
        try:
            return place_from_marks(
                np.array([seen[k] for k in index], float),
                [s.lens(k) for k in index],
                s.rotations[index],
                s.centers[index],
            )
        except PlainError as error:
            raise PlainError(say("{bar}: {problem}", bar=name, problem=error.said), error.remedy) from None
    if spot.at is None:
        raise PlainError(
            say("{bar}: an end is marked in too few photos that are placed.", bar=name),
            "Mark it in two photos that are placed, or pick it in the world.",
        )
    at = np.array(spot.at)
    placed = s.aligned
    near = placed[np.argmin(np.linalg.norm(s.centers[placed] - at, axis=1))]
    sigma = PICKED_PX * float(np.linalg.norm(s.centers[near] - at)) / s.lens(int(near)).fx
    return Place(at, sigma**2 * np.eye(3))


def scaled_by_hand(
    s: Solution, found: Solution, bars: Sequence[MeasuredBar], height: float | None, paths: Sequence[str]
) -> tuple[Solution, ScaleFigures, list[Said]]:
    """An alignment scaled by what was measured, what is told of it in figures, and in words.

    Parameters
    ----------
    s : Solution
        The alignment, perhaps levelled by hand.
    found : Solution
        The same as it was found, in whose frame places are picked.
    height : float, optional
        Rough height of the subject (m), used where nothing else tells the scale.
    paths : sequence of str
        Of the photos, by row.
    """
    rows = {p: k for k, p in enumerate(paths)}
    measured = [
        Bar(
            b.name, place_of(b.a, found, rows, b.name), place_of(b.b, found, rows, b.name),
            b.length_mm / 1000, b.within_mm / 1000, b.checks,
        )
        for b in bars
    ]  # fmt: skip
    if any(not b.checks for b in measured):
        scale = scale_from_bars(measured)
        figures: ScaleFigures = {
            "scale_from": "bars", "scale_sigma_percent": round(100 * scale.sigma, 4),
            "bars": [_told(b, m) for b, m in zip(measured, scale.misses)],
        }  # fmt: skip
        return scaled(s, scale.factor, "bars"), figures, [_sentence(figures)]
    if s.scale_from == "mat":
        told = [_told(b, b.distance - b.length) for b in measured]
        return s, {"scale_from": "mat", "bars": told}, [_sentence({"bars": told})] if told else []
    if height:
        inside = s.points[s.box.inside(s.points)][:, 2]
        # a plain subject has hardly any points of its own: its box has room about it
        room = float(s.box.size.max()) * ROOM / (1 + 2 * ROOM)
        top = float(np.percentile(inside, 99.5)) if len(inside) >= TELL_HEIGHT else float(s.box.high[2]) - room
        sentence = say("The scale is rough: it comes from a height of {mm} mm.", mm=round(1000 * height))
        return scaled(s, height / max(top, 1e-9), "height"), {"scale_from": "height"}, [sentence]
    no_scale = say("No scale yet: the longest side is taken as {length}.", length="1 m")
    advice = Said("Measure a distance between two places, or lay a marker mat beside the subject.")
    return s, {"scale_from": "nothing"}, [together([no_scale, advice])]


def _told(bar: Bar, miss: float) -> BarFigures:
    return {
        "name": bar.name, "length_mm": round(1000 * bar.length, 3), "found_mm": round(1000 * (bar.length + miss), 3),
        "miss_mm": round(1000 * miss, 3), "miss_percent": round(100 * miss / bar.length, 4), "checks": bar.checks,
        "marks_miss_px": round(max(bar.a.miss_px, bar.b.miss_px), 2),
    }  # fmt: skip


def _sentence(figures: ScaleFigures) -> Said:
    """What measured distances say, in words."""
    worst = max(figures["bars"], key=lambda b: abs(b["miss_percent"]))
    parts = []
    if "scale_sigma_percent" in figures:
        parts.append(
            say(
                "{count, plural, one {# measured distance gives} other {# measured distances give}} the scale within "
                "{percent} %.",
                count=sum(not b["checks"] for b in figures["bars"]), percent=figures["scale_sigma_percent"],
            )
        )  # fmt: skip
    if len(figures["bars"]) > 1 or worst["checks"]:
        parts.append(
            say(
                "{bar} misses most: {found} mm instead of {length} mm.", bar=worst["name"],
                found=round(worst["found_mm"], 1), length=round(worst["length_mm"], 1),
            )
        )  # fmt: skip
    return together(parts)
