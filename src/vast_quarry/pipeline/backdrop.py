"""Before and after an alignment: is there a still backdrop, do the surroundings help, and is the result a heap?"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.model import Model
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.core.formats.atomic import read_json
from vast_quarry.core.mask.stands import FEWEST, stands_of
from vast_quarry.core.words import Said
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.pipeline.steps.photos import Photo, PhotoList
from vast_quarry.pipeline.units.mask import glimpse
from vast_quarry.pipeline.units.surroundings import surroundings_agree

#: share of what photos show inside and outside of masks that moves as one piece, from which surroundings help to align
MOVES_ALONG = 0.5
#: cameras of one stand that lie within this share of their distance from the points are on one spot
ONE_SPOT = 0.03


def stands_behind(context: Context, listed: PhotoList, photos: list[Photo]) -> NDArray[np.int64] | None:
    """Number of the stand that each photo was taken from, where photos without masks show a still backdrop; None otherwise.

    A photo of another shape than most has -1.
    """
    looks = context.each("Looking for a still backdrop", glimpse, [(str(listed.file(p)), False) for p in photos])
    stands, alike = stands_of([g.tiny for g in looks])
    if not stands.still:
        return None
    out = np.full(len(photos), -1)
    out[alike] = stands.numbers
    context.found(
        Said(
            "The background seems to stand still while the subject moves before it. Photos align better with masks: let them be "
            "suggested in Masks."
        )
    )
    return out


def heap(model: Model, stands: NDArray[np.int64]) -> Trouble | None:
    """The trouble that an alignment followed a still backdrop: cameras of one stand all lie on one spot, though the subject moved."""
    spots, rows = 0, []
    points = model.points[model.good]
    groups = [np.flatnonzero((stands == g) & model.placed) for g in np.unique(stands[stands >= 0])]
    groups = [g for g in groups if len(g) >= FEWEST]
    for g in groups:
        middle = np.median(model.centers[g], axis=0)
        spread = float(np.median(np.linalg.norm(model.centers[g] - middle, axis=1)))
        distance = float(np.median(np.linalg.norm(points - middle, axis=1))) if len(points) else 0.0
        if spread < ONE_SPOT * distance:
            spots += 1
            rows.extend(g[:2].tolist())
    return Trouble("still backdrop", tuple(rows[:4])) if groups and spots > 0.5 * len(groups) else None


def masked_as_still(context: Context) -> bool:
    """Whether most masks were made because what they leave out stands still: it cannot help to align."""
    try:
        made = read_json(context.parents["masks"] / "masks.json")["photos"].values()
    except (OSError, ValueError, KeyError):
        return False
    ways = [m.get("way") for m in made if m.get("share") is not None]
    return bool(ways) and ways.count("still") > 0.5 * len(ways)


def surroundings_help(context: Context, listed: PhotoList, photos: list[Photo], most: int = 10) -> bool:
    """Whether what masks leave out moves with the subject, so that it helps to align."""
    masks = [mask_file(context.parents["masks"], p.number) for p in photos]
    pairs = [(k, k + 1) for k in range(len(photos) - 1) if masks[k] and masks[k + 1]]
    some = (
        [pairs[k] for k in np.unique(np.linspace(0, len(pairs) - 1, min(most, len(pairs))).astype(int))]
        if pairs
        else []
    )
    jobs = [(str(listed.file(photos[i])), str(masks[i]), str(listed.file(photos[j])), str(masks[j])) for i, j in some]
    told = [s for s in context.each("Looking at the surroundings", surroundings_agree, jobs) if s is not None]
    return len(told) >= max(2, len(jobs) // 3) and float(np.median(told)) > MOVES_ALONG
