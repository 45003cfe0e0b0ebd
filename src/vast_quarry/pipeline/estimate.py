"""How long a build of planned photos takes and what memory it needs, from rates that were measured.

The rates are of two cores (``docs/benchmarks.md``: 36 photos of 1.92 megapixels); on another machine they are multiplied
by what its own finished versions took against them.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel

from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.store import Store

#: seconds per megapixel of the photos, by layer and grade
PER_MEGAPIXEL: dict[str, dict[Grade, float]] = {
    "photos": {Grade.ROUGH: 0.10, Grade.DRESSED: 0.10, Grade.POLISHED: 0.10},
    "cameras": {Grade.ROUGH: 0.16, Grade.DRESSED: 0.55, Grade.POLISHED: 0.75},
    "points": {Grade.ROUGH: 0.35, Grade.DRESSED: 1.72, Grade.POLISHED: 7.0},
    "surface": {Grade.ROUGH: 0.10, Grade.DRESSED: 0.32, Grade.POLISHED: 0.8},
    "texture": {Grade.ROUGH: 0.15, Grade.DRESSED: 0.45, Grade.POLISHED: 0.6},
}
#: seconds per photo for matching and placing
PER_PHOTO = {Grade.ROUGH: 0.6, Grade.DRESSED: 2.1, Grade.POLISHED: 4.5}
#: memory in MB: what every run needs, and per megapixel of the photos together
MEMORY = {Grade.ROUGH: (900.0, 6.5), Grade.DRESSED: (900.0, 13.5), Grade.POLISHED: (1200.0, 30.0)}
#: beyond so much the work is cut into parts
MOST_MB = 6000.0
#: runs on this machine that are looked at, newest first
LOOKED_AT = 12


class Expected(BaseModel):
    """What a grade takes."""

    grade: Grade
    seconds: float
    memory_mb: float


def layer_seconds(layer: str, photos: int, megapixels: float, grade: Grade) -> float:
    """Seconds of one layer on the machine the rates were measured on; ``megapixels`` of all photos together."""
    rate = PER_MEGAPIXEL.get(layer)
    if rate is None:
        return 0.0
    return rate[grade] * megapixels + (PER_PHOTO[grade] * photos if layer == "cameras" else 0.0)


def expected(photos: int, megapixels_each: float, pace: float = 1.0) -> list[Expected]:
    """What each grade takes for so many photos, times the ``pace`` of this machine."""
    total = photos * megapixels_each
    out = []
    for grade in Grade:
        seconds = pace * sum(layer_seconds(layer, photos, total, grade) for layer in PER_MEGAPIXEL)
        base, each = MEMORY[grade]
        out.append(Expected(grade=grade, seconds=round(seconds, 1), memory_mb=round(min(base + each * total, MOST_MB))))
    return out


def pace_of(stores: Iterable[Store]) -> float:
    """How much slower (above one) or quicker this machine is, from finished versions; one when nothing was run."""
    ratios: list[tuple[str, float]] = []
    for store in stores:
        photos = store.versions("photos")
        if not photos:
            continue
        figures = photos[-1].figures
        count, total = int(figures.get("photos", 0)), float(figures.get("megapixels", 0.0))
        for layer in ("points", "texture"):
            for v in store.versions(layer):
                grade = _grade_of(layer, v.settings)
                typical = layer_seconds(layer, count, total, grade) if grade else 0.0
                if typical > 2 and v.seconds > 1 and v.stages:
                    ratios.append((v.made, v.seconds / typical))
    ratios.sort(reverse=True)
    return float(np.median([r for _, r in ratios[:LOOKED_AT]])) if ratios else 1.0


def _grade_of(layer: str, settings: dict) -> Grade | None:
    """The grade whose main setting a version has."""
    if layer == "points":
        return {0.25: Grade.ROUGH, 0.5: Grade.DRESSED, 1.0: Grade.POLISHED}.get(float(settings.get("photo_scale", 0)))
    return {2048: Grade.ROUGH, 4096: Grade.DRESSED, 8192: Grade.POLISHED}.get(int(settings.get("largest", 0)))
