"""Between which depths a photo's are looked for, from outside of the keep box and from within it."""

from __future__ import annotations

import numpy as np

from vast_quarry.core.box import KeepBox
from vast_quarry.core.camera import Camera
from vast_quarry.core.dense.sources import View
from vast_quarry.core.pose import look_at
from vast_quarry.pipeline.units.depth import BEFORE, BEHIND, depth_range

BOX = KeepBox((-5.0, -5.0, 0.0), (5.0, 5.0, 3.0))


def seen_from(center: tuple[float, float, float]) -> View:
    rotation = look_at(center, (0.0, 0.0, 1.0))
    return View(np.zeros((12, 16), np.uint8), Camera.simple(16, 12, 14.0), rotation, np.array(center))


def test_from_within_a_place_points_say_where_it_begins_and_ends() -> None:
    tied = np.linspace(2.0, 7.0, 200)
    near, far, hit = depth_range(BOX, seen_from((3.0, 3.0, 1.5)), tied, masked=False)
    assert hit.all()
    assert near.min() > 0.9 * BEFORE * 2.0
    assert (near <= far / 2).all()
    assert far.min() >= np.float32(BEHIND * np.quantile(tied, 0.95))
    # what stands nearer than all points is found still
    assert near.max() < 2.0
    # and a mask says what does not count: the box ends it
    box_end = depth_range(BOX, seen_from((3.0, 3.0, 1.5)), np.zeros(0), masked=True)[1]
    np.testing.assert_array_equal(depth_range(BOX, seen_from((3.0, 3.0, 1.5)), tied, masked=True)[1], box_end)


def test_from_outside_the_box_says_where_it_begins() -> None:
    """However far back the only points lie: a plain front has none."""
    view = seen_from((12.0, 0.0, 1.5))
    nothing = depth_range(BOX, view, np.zeros(0), masked=False)
    tied = depth_range(BOX, view, np.full(50, 16.0), masked=False)
    np.testing.assert_array_equal(tied[0], nothing[0])
    np.testing.assert_array_equal(tied[2], nothing[2])
