"""Focal lengths that are not what was said: found by themselves, told, and right lenses left alone."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.core.synthetic import LENS, arc, cloud, seen_by

from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.incremental import align
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.zoom import groups_of
from vast_quarry.core.pose import fit_similarity

PLAIN = replace(LENS, k1=-0.02, k2=0.0)


def off(model: Model, poses: list) -> float:
    """Largest error of a placed centre, in per cent of the distance."""
    true = np.stack([c for _, c in poses])[model.placed]
    s = fit_similarity(model.centers[model.placed], true)
    return float(np.linalg.norm(s.points(model.centers[model.placed]) - true, axis=1).max() / 1.8 * 100)


def told(data: AlignInput, focal: float) -> AlignInput:
    """The same, told that the focal length is read from the photos as so many pixels."""
    lens = replace(data.lenses[0], fx=focal, fy=focal, cx=319.5, cy=239.5, k1=0.0, k2=0.0)
    return replace(data, lenses=[lens], guessed=[False])


@pytest.mark.parametrize("factor", [2.0, 0.5])
def test_a_focal_length_said_wrong_by_two_is_put_right(rng: np.random.Generator, factor: float) -> None:
    poses = arc(170, 14)
    data = told(seen_by(rng, cloud(rng, 600), poses, 0.15, lens=PLAIN), factor * PLAIN.fx)
    model = align(data)
    assert isinstance(model, Model)
    assert model.placed.all()
    assert off(model, poses) < 1.0
    (found,) = model.refocused
    assert found.said == pytest.approx(factor * PLAIN.fx)
    assert model.lenses[0].fx == pytest.approx(PLAIN.fx, rel=0.02)


def test_a_zoom_that_was_changed_in_the_middle(rng: np.random.Generator) -> None:
    poses = arc(170, 16)
    longer = replace(PLAIN, fx=1.5 * PLAIN.fx, fy=1.5 * PLAIN.fx)
    lenses = [longer if 6 <= k < 12 else PLAIN for k in range(16)]
    data = told(seen_by(rng, cloud(rng, 900), poses, 0.15, lens=lenses, start=PLAIN), PLAIN.fx)
    model = align(data)
    assert isinstance(model, Model)
    assert model.placed.all()
    assert off(model, poses) < 1.0
    focal = np.array([model.lenses[int(k)].fx for k in model.lens_of])
    np.testing.assert_allclose(focal, [c.fx for c in lenses], rtol=0.02)
    assert any(set(r.photos) == set(range(6, 12)) for r in model.refocused)


def test_a_right_focal_length_is_left_alone(rng: np.random.Generator) -> None:
    data = told(seen_by(rng, cloud(rng, 600), arc(170, 14), 0.15, lens=PLAIN), PLAIN.fx)
    model = align(data)
    assert isinstance(model, Model)
    assert not model.refocused
    assert len(model.lenses) == 1


def test_groups_of_focal_lengths() -> None:
    assert len(groups_of(np.array([500, 505, 498, 502, 510.0]))) == 1
    many, few = groups_of(np.array([500, 505, 498, 502, 750, 760, 745, 1200.0]))
    assert many.tolist() == [0, 1, 2, 3]
    assert few.tolist() == [4, 5, 6, 7]  # the stray one joins the nearest
    assert len(groups_of(np.array([500, 501, 502, 700.0]))) == 1  # one alone is no group
