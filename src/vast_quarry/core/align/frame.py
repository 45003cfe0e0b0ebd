"""The world frame: upright, on the ground, with its origin in the middle of the subject's foot; and a suggested keep box.

Up and ground are found in :mod:`.gravity`. The subject (:mod:`.subject`) is what the cameras look at: the cluster of points
above the ground around the place where the optical axes meet. The box is turned about the upright so that it is smallest.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.gravity import Sureness, Up, find_up
from vast_quarry.core.align.subject import focus_point, foot_of, subject_cluster, without_strays
from vast_quarry.core.align.upright import (
    ground_plane,
    up_from_above,
    up_from_level_photos,
    wall_normal,
)
from vast_quarry.core.box import KeepBox, smallest_turn
from vast_quarry.core.pose import Similarity, rotation_between
from vast_quarry.core.words import Said

Array = NDArray[np.float64]


#: what is recorded
Kind = Literal["object", "place", "facade", "interior", "strip"]


def facing_turn(ahead: Array) -> float:
    """Turn about the upright (radians) of axes whose y runs along a direction."""
    return float(np.arctan2(-ahead[0], ahead[1]))


@dataclass
class Standing:
    """How the model was stood up.

    The transform to the upright frame, where up came from, the keep box, whether there is a ground and how rough it is
    (spread of its points about the plane, in world units), what to tell, and how sure it is which way is up.
    """

    transform: Similarity
    witness: str
    box: KeepBox
    ground: bool
    rough: float = 0.0
    notes: list[Said] = field(default_factory=list)
    sure: Sureness = "sure"


def world_frame(
    rotations: Array, centers: Array, points: Array, masked: bool = False, mat: Similarity | None = None,
    kind: Kind = "object",
) -> Standing:  # fmt: skip
    """Find up, ground, origin and keep box; without a mat the subject's longest side becomes 1.

    Parameters
    ----------
    rotations : (n, 3, 3), centers : (n, 3)
        Placed cameras.
    points : (N, 3)
        Well seen points of the sparse cloud.
    masked : bool
        Whether masks left only the subject: then there is no ground to be found and all points count.
    mat : Similarity, optional
        From the model to a marker mat in metres: it says what is up, where the ground is, and the scale.
    kind : str
        What is recorded. Of anything but a thing in the middle the keep box holds all that is well seen, the ground too. A
        facade stands upright by its wall and faces the front; a strip of ground lies level, seen from above; in
        an interior the walls are all about.
    """
    notes: list[Said] = []
    place = kind != "object"
    wall = wall_normal(points, centers) if kind == "facade" else None
    found = _up(rotations, centers, points, masked, kind, wall)
    up, witness, sure, plane = found.direction, found.witness, found.sure, None if masked else found.ground
    focus = focus_point(rotations, centers)
    reach = float(np.median(np.linalg.norm(centers - focus, axis=1)))
    rough = 0.0
    if plane is not None:
        _, offset, rough = plane
    if mat is not None:
        sure = "sure"
        up = mat.rotation.T @ [0.0, 0.0, 1.0]
        # height over the mat is scale (up . x) + shift
        plane, witness = (up, -float(mat.shift[2]) / mat.scale, rough), "marker mat"
        offset = plane[1]
    turn_up = rotation_between(up, [0.0, 0.0, 1.0])
    p = points @ turn_up.T
    f = turn_up @ focus
    ground = offset if plane is not None else None
    above = p[:, 2] > ground + max(4.0 * rough, 0.012 * reach) if ground is not None else np.ones(len(p), bool)
    if place or above.sum() < 50:
        above = np.ones(len(p), bool)
    subject = p[above]
    if place:
        # what lies far beyond the cameras is seen by chance
        around = np.abs(subject - np.median(turn_up @ centers.T, axis=1)).max(1)
        subject = subject[around < 2.5 * float(np.ptp(centers, axis=0).max()) + reach]
    elif not masked:
        subject = subject[subject_cluster(subject, f, reach)]
    if ground is not None and not place:
        # bumps of the ground around the foot must not widen the box
        tall = subject[:, 2] > ground + 0.10 * (np.percentile(subject[:, 2], 99) - ground)
        subject = subject[tall] if tall.sum() >= 50 else subject
    if not masked:
        subject = without_strays(subject)
    low, high = np.percentile(subject, 0.5, axis=0), np.percentile(subject, 99.5, axis=0)
    floor = ground if ground is not None else foot_of(subject[:, 2])
    middle = np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, floor])
    turn = (
        facing_turn(turn_up @ (rotations[:, 2].mean(0) if wall is None else -wall))
        if kind == "facade"
        else smallest_turn(subject[:, :2])
    )
    c, s = np.cos(turn), np.sin(turn)
    facing = np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])
    local = (subject - middle) @ facing.T
    low, high = np.percentile(local, 0.5, axis=0), np.percentile(local, 99.5, axis=0)
    shift_xy = np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, 0.0])
    rotation = facing @ turn_up
    # heights count from the foot, though what is near it was left aside
    sides = (float(high[0] - low[0]), float(high[1] - low[1]), float(high[2]))
    scale = mat.scale if mat is not None else 1.0 / max(*sides, 1e-12)
    transform = Similarity(scale, rotation, scale * (-facing @ middle - shift_xy))
    low, high, shift_xy, rough = scale * low, scale * high, scale * shift_xy, scale * rough
    low, high = low - shift_xy, high - shift_xy
    pad = 0.08 * float((high - low).max())
    bottom = 0.0 if ground is not None and not place else min(float(low[2]), 0.0) - pad
    box = KeepBox((low[0] - pad, low[1] - pad, bottom), (high[0] + pad, high[1] + pad, high[2] + pad))
    if sure == "a guess":
        notes.append(
            Said(
                "Which way is up is a guess: laps, ground and how the photos were held do not agree. Check that the model stands "
                "upright, and turn it in Cameras if it does not."
            )
        )
    elif plane is None and not masked:
        notes.append(
            Said("No ground was found: up comes from how the photos were held; check that the model stands upright.")
        )
    return Standing(transform, witness, box, plane is not None, rough, notes, sure)


def _up(rotations: Array, centers: Array, points: Array, masked: bool, kind: Kind, wall: Array | None) -> Up:
    """Which way is up, by what is recorded."""
    if kind == "strip" or wall is not None:
        up, witness = (up_from_above(rotations), "views from above")
        if wall is not None:
            # walls are upright: how photos were held says only which way along it is up
            up = up_from_level_photos(rotations)
            up = up - (up @ wall) * wall
            up, witness = up / np.linalg.norm(up), "wall"
        plane = None if masked else ground_plane(points, centers, up)
        if plane is not None:
            up, witness = plane[0], "ground plane"
        return Up(up, witness, "sure", plane, 0.0)
    # cameras along a wall or in a room are no lap about anything
    return find_up(rotations, centers, points, not masked, kind in ("object", "place"))


#: room about the subject, of its longest side; points of a body, and the share of them (percent), that may lie beyond what counts
#: as its extent
ROOM, BEYOND, STRAY = 0.08, 3, 0.1


def _extent(bodies: Sequence[Array], axes: Array) -> tuple[Array, Array]:
    """Lowest and highest corner (3,) of bodies (each (N, 3)) along axes (3, 3), some single points of each left aside."""
    lows, highs = [], []
    for points in bodies:
        local, share = points @ axes.T, min(5.0, max(STRAY, 100 * BEYOND / len(points)))
        lows.append(np.percentile(local, share, axis=0))
        highs.append(np.percentile(local, 100 - share, axis=0))
    return np.min(lows, axis=0), np.max(highs, axis=0)


def reframed(standing: Standing, bodies: Sequence[Array], metric: bool) -> Standing:
    """The same standing about another subject: keep box about it, origin in the middle of its foot, its longest side 1.

    Parameters
    ----------
    bodies : sequence of (N, 3)
        Points of the subject in the world of the standing, those of each body apart.
    metric : bool
        Whether the scale is known, and stays.
    """
    turn = smallest_turn(np.concatenate(bodies)[:, :2])
    c, s = np.cos(turn), np.sin(turn)
    facing = np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])
    low, high = _extent(bodies, facing)
    foot = 0.0 if standing.ground else foot_of(np.concatenate(bodies)[:, 2])
    middle = np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, foot])
    low, high = low - middle, high - middle
    scale = 1.0 if metric else 1.0 / max(high[0] - low[0], high[1] - low[1], high[2], 1e-12)
    low, high = scale * low, scale * high
    pad = ROOM * float((high - low).max())
    bottom = 0.0 if standing.ground else min(float(low[2]), 0.0) - pad
    box = KeepBox((low[0] - pad, low[1] - pad, bottom), (high[0] + pad, high[1] + pad, high[2] + pad))
    onto = Similarity(scale, facing, -scale * middle)
    return replace(
        standing,
        transform=onto.after(standing.transform),
        box=box,
        rough=scale * standing.rough,
        notes=list(standing.notes),
    )
