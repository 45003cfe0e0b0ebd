"""What is told of each group of photos that hangs together by itself: kept, so that each is told of when it is used."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, TypeAdapter

from vast_quarry.core.align.frame import Standing
from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.spots import on_one_spot
from vast_quarry.core.formats.atomic import write_json
from vast_quarry.core.words import Said
from vast_quarry.pipeline.aligned import figures_of
from vast_quarry.pipeline.alignment_words import (
    doubt_sentences,
    findings,
    focal_sentences,
    join_sentences,
    lens_sentences,
    spot_sentences,
)
from vast_quarry.pipeline.features import Features
from vast_quarry.pipeline.matching import mirrored
from vast_quarry.pipeline.picking import misfit_sentences
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.pipeline.solution import Solution
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.photos import Photo

FILE = "groups.json"


class OfGroup(BaseModel):
    """Figures and findings of one group."""

    figures: dict[str, Any]
    findings: list[Sentence]


_ALL = TypeAdapter(list[OfGroup])


def told_of(
    context: Context, photos: list[Photo], model: Model, found: Sequence[Solution], stood: Sequence[Standing],
    data: AlignInput, features: Features, pairs: list,
) -> list[OfGroup]:  # fmt: skip
    """Figures and findings of the model and of what stands apart from it, in the order of ``found``."""
    groups = (model, *model.apart)
    flipped = mirrored(context, photos, found[0], data, features)
    rows = [np.flatnonzero(g.placed).tolist() for g in groups]
    sizes = [len(r) for r in rows]
    order = data.order if data.order is not None else np.arange(len(photos))
    out = []
    for k, (group, solution, standing) in enumerate(zip(groups, found, stood)):
        figures = figures_of(photos, group, solution, standing, pairs, data)
        figures["groups"] = sizes
        others = {n + 1: r for n, r in enumerate(rows) if n != k}
        out.append(
            OfGroup(
                figures=dict(figures),
                findings=[
                    *standing.notes,
                    *findings(photos, solution, data, flipped, others),
                    *join_sentences(photos, group.joins, context.settings.sets),
                    *misfit_sentences([p.name for p in context.settings.places], model),
                    *doubt_sentences(photos, group.doubted),
                    *spot_sentences(photos, on_one_spot(group, data.xy, data.matches, order)),
                    *focal_sentences(photos, group.refocused, figures["lenses"]),
                    *lens_sentences(figures["lenses"], figures["feature_noise_px"]),
                ],
            )
        )
    return out


def write_told(folder: Path, told: Sequence[OfGroup]) -> None:
    """Keep what is told of each group, where there are several."""
    if len(told) > 1:
        write_json(folder / FILE, _ALL.dump_python(list(told), mode="json"))


def told_again(
    folder: Path, group: int, figures: Mapping[str, Any], said: Sequence[Said]
) -> tuple[dict[str, Any], list[Said]]:
    """Figures and findings of a version as they are when another of its groups (1 the largest) is used."""
    try:
        told = _ALL.validate_json((folder / FILE).read_bytes())
        mine = told[group - 1]
    except (OSError, ValueError, IndexError):
        return dict(figures), list(said)
    of_some = {str(f) for one in told for f in one.findings}
    return {**figures, **mine.figures}, [*mine.findings, *(f for f in said if str(f) not in of_some)]
