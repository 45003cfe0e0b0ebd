"""Levelling by hand: turning an upright model about the axes of the world, and setting it down again.

What is found by itself (:mod:`.frame`) is right most of the time; where it is not, a person looks straight on and turns
the model about the line of sight. The steps are kept as they were made, so that they can be read and taken back.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.subject import foot_of
from vast_quarry.core.box import KeepBox, smallest_turn
from vast_quarry.core.errors import PlainError
from vast_quarry.core.pose import Similarity
from vast_quarry.core.words import say

Array = NDArray[np.float64]
AXES = "xyz"

#: a plane turned further than this (degrees) from where it was found is not taken for the ground any more
STILL_GROUND = 10.0


def turn_matrix(steps: Sequence[tuple[str, float]]) -> Array:
    """Rotation (3, 3) of turns about world axes, first step first: ``[("x", 1.5), ("z", -20)]``, in degrees.

    Raises
    ------
    PlainError
        When an axis or an angle makes no sense.
    """
    out = np.eye(3)
    for axis, degrees in steps:
        if axis not in AXES or not np.isfinite(degrees):
            raise PlainError(
                say("A turn by {degrees} about {axis} makes no sense.", degrees=degrees, axis=axis),
                "Turn about x, y or z by degrees.",
            )
        i, j = [k for k in range(3) if AXES[k] != axis]
        c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
        if axis == "y":  # right-handed: y turns z to x
            s = -s
        one = np.eye(3)
        one[i, i] = one[j, j] = c
        one[i, j], one[j, i] = -s, s
        out = one @ out
    return out


def set_down(turn: Array, points: Array, box: KeepBox, ground: bool) -> tuple[Similarity, KeepBox, bool]:
    """Turn a model about its origin and set it down again.

    Parameters
    ----------
    turn : (3, 3)
        Rotation of the world.
    points : (N, 3)
        Sparse points before the turn.
    box : KeepBox
        Keep box before the turn.
    ground : bool
        Whether a ground lies at z = 0: then the origin stays where it was on it.

    Returns
    -------
    Similarity
        From the world before to the world after.
    KeepBox
        Of the same points as before, turned to be smallest.
    bool
        Whether z = 0 still is the ground.
    """
    inside = points[box.inside(points)]
    if len(inside) < 20:
        inside = box.corners
    p = inside @ turn.T
    still = ground and bool(turn[2, 2] >= np.cos(np.radians(STILL_GROUND)))
    facing = KeepBox((0, 0, 0), (0, 0, 0), smallest_turn(p[:, :2])).turn
    frame = KeepBox((0, 0, 0), (0, 0, 0), facing).axes
    local = p @ frame.T
    low, high = np.percentile(local, 0.5, axis=0), np.percentile(local, 99.5, axis=0)
    shift = np.zeros(3)
    if not still:
        middle = (low + high) / 2
        shift = -np.array([middle[0], middle[1], foot_of(local[:, 2])])
    pad = 0.08 * float((high - low).max())
    low, high = low + shift - pad, high + shift + pad
    if still:
        low[2] = 0.0
    as_tuple = lambda a: (float(a[0]), float(a[1]), float(a[2]))  # noqa: E731
    return (
        Similarity(1.0, turn, frame.T @ shift),
        KeepBox(as_tuple(low), as_tuple(high), float(facing)),
        still,
    )
