"""Scale from measured distances: places marked in photos, the fit over bars, and whether what is stated holds the truth."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.synthetic import LENS, arc

from vast_quarry.core.align.scale import Bar, Place, place_from_marks, scale_from_bars
from vast_quarry.core.camera import project
from vast_quarry.core.errors import PlainError

SURE = np.zeros((3, 3))


def marked(rng: np.random.Generator, x: np.ndarray, poses: list, noise: float) -> Place:
    px = np.stack([project(LENS, r, c, x[None])[0][0] for r, c in poses]) + rng.normal(0, noise, (len(poses), 2))
    return place_from_marks(px, [LENS] * len(poses), np.stack([r for r, _ in poses]), np.stack([c for _, c in poses]))


def test_a_place_is_where_its_marks_say(rng: np.random.Generator) -> None:
    x = np.array([0.1, -0.05, 0.3])
    exact = marked(rng, x, arc(40, 3), 0.0)
    np.testing.assert_allclose(exact.at, x, atol=1e-9)
    assert exact.miss_px < 1e-6


def test_the_stated_error_of_a_place_holds_the_truth(rng: np.random.Generator) -> None:
    """Mahalanobis distances over many trials: chi-square with three degrees of freedom has mean 3 (handbook value)."""
    x = np.array([0.1, -0.05, 0.3])
    places = [marked(rng, x, arc(60, 4), 0.7) for _ in range(300)]
    squares = [(p.at - x) @ np.linalg.inv(p.covariance) @ (p.at - x) for p in places]
    assert 2.0 < np.mean(squares) < 3.3  # marks that miss by more are trusted less, never more


def test_one_photo_or_one_side_is_not_enough(rng: np.random.Generator) -> None:
    with pytest.raises(PlainError, match="two photos"):
        marked(rng, np.zeros(3), arc(40, 2)[:1], 0.0)
    with pytest.raises(PlainError, match="same side"):
        marked(rng, np.zeros(3), arc(0.5, 2), 0.0)


def bar(length: float, distance: float, sigma: float = 5e-4, checks: bool = False) -> Bar:
    return Bar("A", Place(np.zeros(3), SURE), Place(np.array([distance, 0, 0]), SURE), length, sigma, checks)


def test_weighted_mean_of_bars() -> None:
    """Worked by hand: s = sum(w d L) / sum(w d^2); equal sigmas, d = 1 and 2, L = 2.0 and 4.1: s = (2 + 8.2) / 5 = 2.04."""
    found = scale_from_bars([bar(2.0, 1.0), bar(4.1, 2.0), bar(3.0, 1.5, checks=True)])
    assert found.factor == pytest.approx(2.04)
    np.testing.assert_allclose(found.misses, [0.04, -0.02, 0.06], atol=1e-12)
    # a bar alone is as sure as it was measured
    assert scale_from_bars([bar(0.5, 1.0)]).sigma == pytest.approx(1e-3)


def test_two_bars_measured_within_half_a_millimetre_hold_the_truth(rng: np.random.Generator) -> None:
    """Bars of 0.4 and 0.6 m in a model at 1 : 2.5, marked in three photos each: 95 of 100 within two stated sigmas."""
    poses = arc(70, 3)
    ends = [np.array(p) for p in ([-0.2, 0, 0.1], [0.2, 0, 0.1], [0.0, -0.1, 0.0], [0.0, 0.1, 0.56])]
    within = []
    for _ in range(200):
        a, b, c, d = (marked(rng, x, poses, 0.7) for x in ends)
        true = [2.5 * np.linalg.norm(ends[k + 1] - ends[k]) for k in (0, 2)]
        bars = [
            Bar("A", a, b, true[0] + rng.normal(0, 5e-4), 5e-4),
            Bar("B", c, d, true[1] + rng.normal(0, 5e-4), 5e-4),
        ]
        found = scale_from_bars(bars)
        within.append(abs(found.factor / 2.5 - 1) < 2 * found.sigma)
    assert np.mean(within) > 0.93


@pytest.mark.parametrize("bars", [[bar(1.0, 0.0)], [bar(1.0, 1.0, checks=True)], [bar(0.0, 1.0)]])
def test_what_makes_no_sense_is_told(bars: list[Bar]) -> None:
    with pytest.raises(PlainError):
        scale_from_bars(bars)
