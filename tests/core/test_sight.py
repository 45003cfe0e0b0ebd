"""Surface without points stays where photos look at it and none looks through it."""

from __future__ import annotations

import numpy as np

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense.patchmatch import DepthMap
from vast_quarry.core.pose import look_at
from vast_quarry.core.surface.sight import allowed, sight

CAMERA = Camera.simple(100, 100, 100.0)
CENTER = np.array([0.0, 0.0, 2.0])
POSE = look_at(CENTER, [0, 0, 0], up=(0, 1, 0))


def seen(depth: float, cost: float = 0.1) -> DepthMap:
    shape = (100, 100)
    return DepthMap(
        np.full(shape, depth, np.float32), np.zeros((*shape, 3), np.float32), np.full(shape, cost, np.float32)
    )


def told(depth: DepthMap, normal: tuple[float, float, float] = (0, 0, 1), masked: bool = False) -> tuple[bool, bool]:
    """Whether a photo from 2 above looks through, and at, a face at the origin."""
    through, looks = sight(np.zeros((1, 3)), np.array([normal], float), depth, CAMERA, POSE, CENTER, masked)
    return bool(through[0]), bool(looks[0])


def test_a_photo_that_sees_something_behind_looks_through() -> None:
    assert told(seen(2.5)) == (True, False)
    assert told(seen(2.0)) == (False, True)
    # what it sees in front hides the face: it says nothing
    assert told(seen(1.5)) == (False, False)
    # not sure of anything: it looks at the face
    assert told(seen(2.5, cost=0.9)) == (False, True)


def test_the_back_of_a_face_is_not_looked_at() -> None:
    assert told(seen(2.0), normal=(0, 0, -1)) == (False, False)
    assert told(seen(2.0), normal=(1, 0, 0.05)) == (False, False)


def test_outside_of_a_mask_there_is_nothing() -> None:
    assert told(seen(0.0), masked=True) == (True, False)
    assert told(seen(0.0), masked=False) == (False, True)


def test_what_few_look_at_or_many_look_through_is_not_kept() -> None:
    assert allowed(np.array([0, 0, 1, 1, 3]), np.array([1, 2, 2, 9, 3])).tolist() == [False, True, False, True, False]
