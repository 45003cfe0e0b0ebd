"""Places that somebody picked in photos, to join groups that nothing else ties."""

from __future__ import annotations

from collections.abc import Sequence

from pydantic import BaseModel, ConfigDict, Field

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


def misfit_sentences(names: Sequence[str], model: Model) -> list[Said]:
    """What is told of picked places that would not join groups."""
    if not model.misfits:
        return []
    worst, miss = max(model.misfits, key=lambda m: m[1])
    return [
        say(
            "The picked places do not fit each other, so that they joined nothing: {name} misses by {percent} % of the width of a "
            "photo. Look at its marks.",
            name=names[worst], percent=round(miss / 10, 1),
        )
    ]  # fmt: skip
