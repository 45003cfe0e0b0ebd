"""Places known in photos without matching, to join groups that nothing else ties: picked by hand, or corners of markers."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from vast_quarry.core.align.mat import FoundMarkers
from vast_quarry.core.align.model import Model
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.steps.photos import Photo


class PickedPlace(BaseModel):
    """A place, and where photos show it (path to pixel at full size)."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    name: str = Field(min_length=1, max_length=60)
    marks: dict[str, tuple[float, float]] = Field(default_factory=dict, max_length=200)


def picked_in(photos: Sequence[Photo], places: Sequence[PickedPlace]) -> list[dict[int, tuple[float, float]]]:
    """Picked places by rows of photos; marks in photos that are not used are left out."""
    row = {p.path: n for n, p in enumerate(photos)}
    return [{row[path]: at for path, at in place.marks.items() if path in row} for place in places]


def corners_as_places(rows: Sequence[int], found: Sequence[FoundMarkers]) -> list[dict[int, tuple[float, float]]]:
    """Corners of coded markers by rows of the photos that show them; a marker that a photo shows twice says nothing there."""
    out: dict[tuple[int, int], dict[int, tuple[float, float]]] = {}
    for row, markers in zip(rows, found):
        numbers, counts = np.unique(markers.numbers, return_counts=True)
        for number in numbers[counts == 1].tolist():
            corners = markers.corners[int(np.flatnonzero(markers.numbers == number)[0])]
            for k, (x, y) in enumerate(corners.tolist()):
                out.setdefault((number, k), {})[row] = (x, y)
    return [marks for _, marks in sorted(out.items()) if len(marks) >= 2]


def misfit_sentences(names: Sequence[str], model: Model) -> list[Said]:
    """What is told of picked places that would not join groups."""
    if not model.misfits:
        return []
    worst, miss = max(model.misfits, key=lambda m: m[1])
    return [
        say(
            "The picked places do not fit each other, so that they joined nothing: {name} misses by {percent} % of the width of a "
            "photo. Look at its marks.",
            name=names[worst] if worst < len(names) else Said("a marker of the mat"), percent=round(miss / 10, 1),
        )
    ]  # fmt: skip
