"""Which bodies of a mesh are wanted: a subject may be several, or fall into several where it is thin; shreds and what reaches in from
beside it are not.

Size alone says little: the table that a box stands on is larger than the box, and a leg smaller than the rest. A body goes when it is a
crumb, when it lies flat on the ground, or when a side of the keep box cuts it and most of it lies at that side.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.box import KeepBox
from vast_quarry.core.surface.mesh import compacted, components, face_areas

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
Why = Literal["crumb", "flat", "cut"]

#: a body is a crumb that has less than this share of the largest body's area, and is shorter than this share of the keep box
CRUMB_AREA, CRUMB_LENGTH = 0.003, 0.06
#: a body lies flat whose top is no higher than so many times what the mesh was cut off the ground at
FLAT = 2.0
#: a body lies at a side of the box that has this share of its area within this share of the box from a side that cuts it
AT_SIDE, STRIP = 0.35, 0.12
#: what stays has to be this share of all
MOSTLY = 0.4


@dataclass(frozen=True)
class Dropped:
    """A body that was left out: why, and its share of the area of all."""

    why: Why
    share: float


def wanted_bodies(
    vertices: Array, faces: Faces, box: KeepBox, foot: float = -np.inf
) -> tuple[Array, Faces, list[Dropped]]:
    """Bodies of a mesh that are wanted, and what was left out.

    Parameters
    ----------
    box : KeepBox
        The keep box, whose sides cut the mesh.
    foot : float
        Height at which the mesh was cut off the ground; -inf where it was not.
    """
    if not len(faces):
        return vertices, faces, []
    label = components(faces)
    area = face_areas(vertices, faces)
    total = np.bincount(label, area)
    size = box.size
    local = vertices @ box.axes.T
    low, high = np.asarray(box.low), np.asarray(box.high)
    strip, touch = STRIP * float(size[:2].min()), 1e-4 * float(size.max())
    corners = local[faces]
    order = np.argsort(label, kind="stable")
    starts = np.searchsorted(label[order], np.arange(len(total)))
    least = np.minimum.reduceat(corners.min(1)[order], starts)
    most = np.maximum.reduceat(corners.max(1)[order], starts)
    crumb = (total < CRUMB_AREA * total.max()) & (
        np.linalg.norm(most - least, axis=1) < CRUMB_LENGTH * np.linalg.norm(size)
    )
    flat = np.isfinite(foot) & (most[:, 2] < low[2] + FLAT * (foot - low[2]))
    middle = corners.mean(1)
    at_side = np.zeros(len(faces), bool)
    for axis in (0, 1):
        at_side |= (least[:, axis] < low[axis] + touch)[label] & (middle[:, axis] < low[axis] + strip)
        at_side |= (most[:, axis] > high[axis] - touch)[label] & (middle[:, axis] > high[axis] - strip)
    cut = np.bincount(label[at_side], area[at_side], len(total)) > AT_SIDE * total
    # the first that holds of a body is why it goes
    dropped: dict[int, Why] = {}
    reasons: tuple[tuple[Why, NDArray[np.bool_]], ...] = (("cut", cut), ("flat", flat), ("crumb", crumb))
    for why, which in reasons:
        dropped |= dict.fromkeys(np.flatnonzero(which).tolist(), why)
    # the sides of the box may as well cut the subject itself: then most would go, and nothing may go that leaves nothing
    for why in ("cut", "flat", "crumb"):
        left = 1 - sum(total[k] for k in dropped) / total.sum()
        if left >= (MOSTLY if why == "cut" else 1e-9):
            break
        dropped = {k: w for k, w in dropped.items() if w != why}
    keep = ~np.isin(label, list(dropped))
    v, f, _ = compacted(vertices, faces[keep])
    return v, f, [Dropped(why, float(total[k] / total.sum())) for k, why in dropped.items()]
