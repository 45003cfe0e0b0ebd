"""Levelling by hand, against scipy's rotations and by known answers."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from vast_quarry.core.align.level import set_down, turn_matrix
from vast_quarry.core.box import KeepBox
from vast_quarry.core.errors import PlainError


def test_turns_are_those_of_scipy() -> None:
    steps = [("z", 30.0), ("x", -12.5), ("y", 80.0), ("x", 3.0)]
    expected = np.eye(3)
    for axis, degrees in steps:
        expected = Rotation.from_euler(axis, degrees, degrees=True).as_matrix() @ expected
    np.testing.assert_allclose(turn_matrix(steps), expected, atol=1e-12)


@pytest.mark.parametrize("step", [("w", 3.0), ("x", float("nan")), ("z", float("inf"))])
def test_impossible_turns_are_refused(step: tuple[str, float]) -> None:
    with pytest.raises(PlainError, match="makes no sense"):
        turn_matrix([step])


def block(tilt: np.ndarray) -> np.ndarray:
    """A block of 1 x 2 x 3 standing on the origin, then tilted."""
    grid = np.stack(np.meshgrid(*[np.linspace(0, 1, 9)] * 3), -1).reshape(-1, 3)
    return ((grid - [0.5, 0.5, 0.0]) * [1.0, 2.0, 3.0]) @ tilt.T


def test_a_tilted_block_stands_on_its_base_again() -> None:
    tilt = turn_matrix([("x", 25.0)])
    points = block(tilt)
    low, high = points.min(0) - 0.1, points.max(0) + 0.1
    transform, box, ground = set_down(
        turn_matrix([("x", -25.0)]), points, KeepBox(tuple(low), tuple(high)), ground=False
    )
    after = transform.points(points)
    assert not ground
    np.testing.assert_allclose(after.min(0), [-0.5, -1.0, 0.0], atol=0.02)
    np.testing.assert_allclose(after.max(0), [0.5, 1.0, 3.0], atol=0.02)
    assert box.inside(after).all()
    assert (box.size < [1.8, 2.6, 3.8]).all()


def test_on_a_ground_the_origin_stays_and_the_box_begins_there() -> None:
    points = block(np.eye(3))
    old = KeepBox((-0.6, -1.1, 0.0), (0.6, 1.1, 3.2))
    transform, box, ground = set_down(turn_matrix([("z", 20.0)]), points, old, ground=True)
    assert ground
    np.testing.assert_allclose(transform.points(np.zeros((1, 3))), 0.0, atol=1e-12)
    assert box.low[2] == 0.0
    # the box turned with the block: found again to two degrees, up to quarter turns
    off = (np.degrees(box.turn) - 20.0 + 45.0) % 90.0 - 45.0
    assert abs(off) <= 2.0


def test_what_is_tipped_over_has_no_ground_any_more() -> None:
    points = block(np.eye(3))
    old = KeepBox((-0.6, -1.1, 0.0), (0.6, 1.1, 3.2))
    assert set_down(turn_matrix([("x", 5.0)]), points, old, ground=True)[2]
    assert not set_down(turn_matrix([("x", 90.0)]), points, old, ground=True)[2]
