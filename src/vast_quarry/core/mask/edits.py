"""Mending masks by hand: outlines, brush strokes and changes of the whole mask, one after the other.

A mask is made anew from what a way of finding it gave and the list of its edits, so that undo is leaving off the last one. Places are
shares of the photo's width and height, so that edits serve photos of any size.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Literal

import cv2
import numpy as np
from annotated_types import Ge, Gt, Le, Len
from numpy.typing import NDArray

from vast_quarry.core.mask.edges import largest_parts, snapped, without_pinholes
from vast_quarry.core.mask.outline import filled, grown, stroke

Mask = NDArray[np.bool_]
Rgb = NDArray[np.uint8]
#: a place as shares of width and height; a little outside of the photo too
Share = Annotated[float, Ge(-1), Le(2)]
Place = tuple[Share, Share]
Line = Annotated[list[Place], Len(1, 5000)]
#: values that come from outside hold to what is declared here, and to nothing more
_STRICT = {"extra": "forbid", "allow_inf_nan": False}


@dataclass(frozen=True)
class Outline:
    """What a closed outline holds is added or taken away; ``part`` says what for: of the subject, or to be ignored always."""

    points: Annotated[list[Place], Len(3, 5000)]
    kind: Literal["outline"] = "outline"
    add: bool = True
    snap: bool = False
    part: Literal["subject", "ignore"] = "subject"
    __pydantic_config__ = _STRICT


@dataclass(frozen=True)
class Brush:
    """A round brush: ``radius`` as a share of the photo's width; a soft one (``hardness`` below 1) finds edges in its rim."""

    points: Line
    radius: Annotated[float, Gt(0), Le(0.5)]
    kind: Literal["brush"] = "brush"
    add: bool = True
    hardness: Annotated[float, Ge(0), Le(1)] = 1.0
    __pydantic_config__ = _STRICT


@dataclass(frozen=True)
class Grow:
    """The subject grown from a rough outline or from scribbles, in the place of what was there."""

    kind: Literal["grow"] = "grow"
    points: Annotated[list[Place], Len(0, 5000)] = field(default_factory=list)
    wanted: Annotated[list[Line], Len(0, 200)] = field(default_factory=list)
    unwanted: Annotated[list[Line], Len(0, 200)] = field(default_factory=list)
    __pydantic_config__ = _STRICT


@dataclass(frozen=True)
class Whole:
    """A change of the whole mask; ``amount`` is in pixels of the photo for margins, a share of it for holes and islands."""

    kind: Literal["fill holes", "drop islands", "margin", "invert", "everything", "nothing", "snap"]
    amount: Annotated[float, Ge(-1000), Le(1000)] = 0.0
    __pydantic_config__ = _STRICT


Edit = Outline | Brush | Grow | Whole

#: holes and islands of up to this share of the photo go, where nothing else is said
USUAL = 0.01


def edited(
    base: Mask | None, edits: Sequence[Edit], width: int, height: int, picture: Callable[[], Rgb], scale: float = 1.0
) -> Mask | None:
    """A mask (height, width) with edits made on it, in their order; what is to be ignored goes last of all.

    Parameters
    ----------
    base : (height, width) bool or None
        None: the whole photo counts so far.
    picture : callable
        Gives the photo (height, width, 3), where an edit looks at it.
    scale : float
        Share of the photo's own size at which this is done: margins are in pixels of the photo itself.
    """
    if not edits:
        return base
    mask = np.ones((height, width), bool) if base is None else base.copy()
    ignored = np.zeros((height, width), bool)
    for e in edits:
        if isinstance(e, Outline) and e.part == "ignore":
            ignored |= filled(e.points, height, width)
        elif isinstance(e, Whole) and e.kind == "margin":
            mask = moved_rim(mask, e.amount * scale)
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
