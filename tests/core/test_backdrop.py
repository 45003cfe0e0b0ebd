"""A backdrop that stands still told apart from what moves before it, in matches alone."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray

from vast_quarry.core.match.backdrop import find_backdrop, still_and_moving, without_backdrop
from vast_quarry.core.pose import rotation_from_vector

SIZE, FOCAL = (640, 480), 600.0


def seen(points: NDArray, turn: float, shift: float = 0.0) -> NDArray:
    """Pixels (N, 2) of points before a camera that stands still, turned about the upright through (0, 0, 4) by degrees."""
    middle = np.array([0.0, 0.0, 4.0])
    at = (points - middle) @ rotation_from_vector([0, np.radians(turn), 0]).T + middle + [shift, 0, 0]
    return at[:, :2] / at[:, 2:] * FOCAL + [(SIZE[0] - 1) / 2, (SIZE[1] - 1) / 2]


def photographed(rng: np.random.Generator, room: int, step: float, photos: int = 8) -> tuple[list, dict, int]:
    """Features and matches of a subject of 150 places that is turned by ``step`` degrees a photo, before ``room`` places of a wall."""
    subject = rng.uniform([-0.6, -0.6, 3.4], [0.6, 0.6, 4.6], (150, 3))
    wall = rng.uniform([20, 20], [620, 460], (room, 2))
    xy = []
    for k in range(photos):
        all_ = np.concatenate([seen(subject, step * k, 0.02 * k), wall])
        xy.append((all_ + rng.normal(0, 0.12, all_.shape)).astype(np.float32))
    every = np.arange(150 + room)
    pairs = {(i, j): np.stack([every, every], 1).astype(np.int32) for i in range(photos) for j in range(i + 1, photos)}
    return xy, pairs, 150


@pytest.mark.parametrize("step", [0.4, 3.0, 15.0])
def test_what_stands_still_is_the_backdrop(rng: np.random.Generator, step: float) -> None:
    xy, pairs, subject = photographed(rng, 60, step)
    found = find_backdrop(xy, pairs, [640.0] * len(xy))
    assert found is not None
    for f in found.features:
        assert f[subject:].mean() > 0.95
        assert f[:subject].mean() < 0.05
    left = without_backdrop(xy, pairs, [640.0] * len(xy), found)
    assert len(left) == len(pairs)
    assert all((m[:, 0] < subject).mean() > 0.98 for m in left.values())
    assert np.mean([len(m) for m in left.values()]) > 0.9 * subject


def test_without_a_backdrop_there_is_none(rng: np.random.Generator) -> None:
    """Of any scene a little does not move, but no more than its movement passes through zero."""
    for step in (0.5, 2.0, 8.0):
        xy, pairs, _ = photographed(rng, 0, step)
        assert find_backdrop(xy, pairs, [640.0] * len(xy)) is None


def test_frames_that_stand_still_have_no_backdrop(rng: np.random.Generator) -> None:
    """A tripod before a still subject: nothing moves, so nothing can be told apart."""
    xy, pairs, _ = photographed(rng, 60, 0.0)
    still = [x * 0 + xy[0] for x in xy]
    assert find_backdrop(still, pairs, [640.0] * len(xy)) is None


def test_a_few_still_places_by_chance_tell_nothing() -> None:
    x1 = np.zeros((100, 2))
    x2 = np.full((100, 2), 9.0)
    x2[:8] = 0.1
    _, moving, heaped = still_and_moving(x1, x2, 640)
    assert moving.sum() == 92
    assert not heaped
