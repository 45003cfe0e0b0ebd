"""Mending masks by hand: outlines, brush strokes and changes of the whole mask, one after the other.

A mask is made anew from what a way of finding it gave and the list of its edits, so that undo is leaving off the last one. Places are
shares of the photo's width and height, so that edits serve photos of any size.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Annotated, Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from vast_quarry.core.mask.edges import largest_parts, snapped, without_pinholes
from vast_quarry.core.mask.outline import filled, grown, stroke

Mask = NDArray[np.bool_]
Rgb = NDArray[np.uint8]
Place = tuple[Annotated[float, Field(ge=-1, le=2)], Annotated[float, Field(ge=-1, le=2)]]
Line = Annotated[list[Place], Field(min_length=1, max_length=5000)]


class _Edit(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Outline(_Edit):
    """What a closed outline holds is added or taken away; ``part`` says what for: of the subject, or to be ignored always."""

    kind: Literal["outline"] = "outline"
    points: Annotated[list[Place], Field(min_length=3, max_length=5000)]
    add: bool = True
    snap: bool = False
    part: Literal["subject", "ignore"] = "subject"


class Brush(_Edit):
    """A round brush: ``radius`` as a share of the photo's width; a soft one (``hardness`` below 1) finds edges in its rim."""

    kind: Literal["brush"] = "brush"
    points: Line
    radius: Annotated[float, Field(gt=0, le=0.5)]
    add: bool = True
    hardness: Annotated[float, Field(ge=0, le=1)] = 1.0


class Grow(_Edit):
    """The subject grown from a rough outline or from scribbles, in the place of what was there."""

    kind: Literal["grow"] = "grow"
    points: Annotated[list[Place], Field(max_length=5000)] = []
    wanted: Annotated[list[Line], Field(max_length=200)] = []
    unwanted: Annotated[list[Line], Field(max_length=200)] = []


class Whole(_Edit):
    """A change of the whole mask; ``amount`` is in pixels of the photo for margins, a share of it for holes and islands."""

    kind: Literal["fill holes", "drop islands", "margin", "invert", "everything", "nothing", "snap"]
    amount: Annotated[float, Field(ge=-1000, le=1000)] = 0.0


Edit = Annotated[Outline | Brush | Grow | Whole, Field(discriminator="kind")]

#: holes and islands of up to this share of the photo go, where nothing else is said
USUAL = 0.01


def edited(
    base: Mask | None, edits: Sequence[Edit], width: int, height: int, picture: Callable[[], Rgb]
) -> Mask | None:
    """A mask (height, width) with edits made on it, in their order; what is to be ignored goes last of all.

    Parameters
    ----------
    base : (height, width) bool or None
        None: the whole photo counts so far.
    picture : callable
        Gives the photo (height, width, 3), where an edit looks at it.
    """
    if not edits:
        return base
    mask = np.ones((height, width), bool) if base is None else base.copy()
    ignored = np.zeros((height, width), bool)
    for e in edits:
        if isinstance(e, Outline) and e.part == "ignore":
            ignored |= filled(e.points, height, width)
        else:
            mask = _one(mask, e, width, height, picture)
    return mask & ~ignored


def _one(mask: Mask, e: Edit, width: int, height: int, picture: Callable[[], Rgb]) -> Mask:
    if isinstance(e, Outline):
        area = filled(e.points, height, width)
        if e.snap:
            area = snapped(picture(), area, max(3.0, width / 200))
        return mask | area if e.add else mask & ~area
    if isinstance(e, Brush):
        area = stroke(e.points, e.radius, height, width) > 0
        if e.hardness < 1:
            area = snapped(picture(), area, max(2.0, (1 - e.hardness) * e.radius * width))
        return mask | area if e.add else mask & ~area
    if isinstance(e, Grow):
        rough = filled(e.points, height, width) if len(e.points) >= 3 else None
        return grown(picture(), rough, e.wanted, e.unwanted)
    return _whole(mask, e, width * height, picture)


def _whole(mask: Mask, e: Whole, area: int, picture: Callable[[], Rgb]) -> Mask:
    share = e.amount or USUAL
    if e.kind == "fill holes":
        return without_pinholes(mask, abs(share) * area)
    if e.kind == "drop islands":
        count, label, stats, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8), connectivity=8)
        large = (
            np.concatenate([[False], stats[1:, cv2.CC_STAT_AREA] > abs(share) * area])
            if count > 1
            else np.zeros(1, bool)
        )
        return np.asarray(large[label]) if large.any() else largest_parts(mask, 1.0)
    if e.kind == "margin":
        return moved_rim(mask, e.amount)
    if e.kind == "snap":
        return snapped(picture(), mask, max(3.0, mask.shape[1] / 250))
    if e.kind == "invert":
        return ~mask
    return np.full(mask.shape, e.kind == "everything")


def moved_rim(mask: Mask, pixels: float) -> Mask:
    """A mask grown (or, below 0, shrunk) by a distance; the frame of the photo is no rim."""
    if not pixels or mask.all() or not mask.any():
        return mask
    outwards = pixels > 0
    from_it = (~mask if outwards else mask).astype(np.uint8)
    far = cv2.distanceTransform(np.pad(from_it, 1, mode="edge"), cv2.DIST_L2, 5)[1:-1, 1:-1]
    return np.asarray(far <= pixels if outwards else far > -pixels)
