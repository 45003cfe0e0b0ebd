"""Which of the bodies that stand about is the subject, and how far it reaches."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.frame import Standing, reframed
from vast_quarry.core.align.wanted import Frame, find_wanted
from vast_quarry.core.box import KeepBox
from vast_quarry.core.camera import Camera
from vast_quarry.core.plan.rings import rings
from vast_quarry.core.pose import Similarity

HIGH = 0.3


def frames(focal: float = 700.0) -> list[Frame]:
    return [
        Frame(Camera.simple(640, 480, focal), s.rotation, s.center)
        for s in rings([0, 0, HIGH / 2], 1.0, [15.0, 40.0], 12)
    ]


def block(rng: np.random.Generator, at: tuple[float, float], half: float, high: float, count: int = 3000) -> NDArray:
    p = rng.uniform(-1, 1, (count, 3))
    axis = rng.integers(0, 3, count)
    p[np.arange(count), axis] = np.sign(p[np.arange(count), axis])
    return p * [half, half, high / 2] + [*at, high / 2 + 0.02]


def test_the_subject_is_what_keeps_to_the_middle_however_few_its_points(rng: np.random.Generator) -> None:
    """A small printed block at the edge had all the points, and the plain figure in the middle none of its own."""
    plain = block(rng, (0, 0), 0.1, HIGH, 900)
    printed = block(rng, (0.42, -0.2), 0.04, 0.08, 20_000)
    found = find_wanted(np.concatenate([plain, printed]), frames(), 1.0)
    assert found is not None
    assert np.abs(found.points[:, :2]).max() < 0.12
    assert found.others
    assert found.doubt < 0.3


def test_two_bodies_in_the_middle_are_both_the_subject(rng: np.random.Generator) -> None:
    two = np.concatenate([block(rng, (-0.14, 0), 0.08, 0.2), block(rng, (0.14, 0.02), 0.07, 0.22)])
    found = find_wanted(two, frames(), 1.0)
    assert found is not None
    assert len(found.bodies) >= 2
    assert np.ptp(found.points[:, 0]) > 0.4


def test_crumbs_of_thin_rods_over_a_slab_belong_to_it(rng: np.random.Generator) -> None:
    slab = block(rng, (0, 0), 0.15, 0.03, 6000)
    rods = np.concatenate([
        np.stack([np.full(40, x) + rng.normal(0, 1e-3, 40), np.full(40, y), rng.uniform(0.05, 0.2, 40)], 1)
        for x, y in ((-0.1, 0.05), (0.0, -0.06), (0.1, 0.02))
    ])  # fmt: skip
    found = find_wanted(np.concatenate([slab, rods]), frames(), 1.0)
    assert found is not None
    box = reframed(standing(), [b.points for b in found.bodies], True).box
    assert box.high[2] > 0.19
    # what floats beside it, over the ground alone, does not
    beside = find_wanted(np.concatenate([slab, rods + np.array([0.3, 0.3, 0])]), frames(), 1.0)
    assert beside is not None
    assert reframed(standing(), [b.points for b in beside.bodies], True).box.high[2] < 0.12


def standing() -> Standing:
    return Standing(Similarity(1.0, np.eye(3), np.zeros(3)), "ground plane", KeepBox((0, 0, 0), (1, 1, 1)), True)


def test_nothing_at_all_is_said(rng: np.random.Generator) -> None:
    assert find_wanted(rng.uniform(-1, 1, (10, 3)), frames(), 1.0) is None
    assert find_wanted(rng.uniform(-40, 40, (60, 3)), frames(), 1.0) is None


def test_the_box_has_room_about_the_subject_and_stands_on_the_ground(rng: np.random.Generator) -> None:
    found = reframed(standing(), [block(rng, (0.2, 0.1), 0.1, HIGH)], False)
    # its longest side, the height over the ground, is 1
    assert abs(found.transform.scale * (HIGH + 0.02) - 1) < 0.01
    assert found.box.low[2] == 0
    assert abs(found.box.high[2] - 1.08) < 0.02
    middle = found.transform.points(np.array([[0.2, 0.1, 0.0]]))[0]
    assert np.abs(middle).max() < 0.02
