"""What a lens darkens: the curve found again from made-up pairs and from a shoot of the rig; the lens database's own formula."""

from __future__ import annotations

import numpy as np
import pytest
from tests.conftest import RigSet

from vast_quarry.core.photo.falloff import estimate_falloff, far_from_middle, fit_falloff, stops_at
from vast_quarry.core.photo.tone import Tone, apply_tone
from vast_quarry.pipeline.glances import glance
from vast_quarry.pipeline.judging import inspect


def made_up(curve: tuple[float, float, float], reach: float = 1.0, noise: float = 0.05) -> tuple[dict, dict]:
    rng = np.random.default_rng(3)
    brighter, far = {}, {}
    for k in range(30):
        r = rng.uniform(0, reach, (60, 2))
        true = stops_at(curve, r[:, 1]) - stops_at(curve, r[:, 0]) + rng.normal(0, 0.5)
        wrong = rng.random(60) < 0.1  # shine and wrong matches
        brighter[k, k + 1] = true + rng.normal(0, noise, 60) + wrong * rng.normal(0, 1.5, 60)
        far[k, k + 1] = r
    return brighter, far


@pytest.mark.parametrize("curve", [(0.9, 0.0, 0.0), (0.4, 0.5, 0.0), (0.0, 0.0, 0.0)])
def test_the_curve_is_found_whatever_the_exposures_were(curve: tuple[float, float, float]) -> None:
    brighter, far = made_up(curve)
    found = estimate_falloff(list(brighter), brighter, far)
    assert found is not None
    r = np.linspace(0, 1, 9)
    np.testing.assert_allclose(stops_at(found.falloff, r), stops_at(curve, r), atol=0.06)
    assert found.error < 0.03


def test_nothing_is_said_where_nothing_shows_it() -> None:
    middle, far = made_up((0.9, 0.0, 0.0), reach=0.5)
    assert estimate_falloff(list(middle), middle, far) is None  # the corners are not seen
    few = {(0, 1): np.zeros(50)}
    assert estimate_falloff([(0, 1)], few, {(0, 1): np.random.default_rng(0).uniform(0, 1, (50, 2))}) is None
    brighter, far = made_up((-1.5, 0.0, 0.0))
    assert estimate_falloff(list(brighter), brighter, far) is None  # no lens brightens its corners
    assert estimate_falloff([], {}, {}) is None


def test_the_lens_databases_formula_is_fitted() -> None:
    # lensfun's vignetting model "pa": share of light 1 + k1 r^2 + k2 r^4 + k3 r^6, r = 1 in the corner (its documentation)
    r = np.linspace(0, 1, 50)
    share = 1 - 0.8 * r**2 + 0.5 * r**4 - 0.15 * r**6
    np.testing.assert_allclose(stops_at(fit_falloff(r, share), r), -np.log2(share), atol=0.02)
    places = np.array([[50.0, 30.0], [0.0, 0.0], [100.0, 60.0]], np.float32)
    np.testing.assert_allclose(far_from_middle(places, 101, 61), [0, 1, 1], atol=1e-6)


def test_corners_get_back_what_the_lens_took() -> None:
    height, width = 60, 80
    v, u = np.mgrid[:height, :width]
    r = far_from_middle(np.stack([u.ravel(), v.ravel()], 1).astype(np.float32), width, height).reshape(height, width)
    light = 0.3 * 2.0 ** -stops_at((0.7, 0.3, -0.1), r.astype(float))
    coded = np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055)
    dark = np.repeat(np.round(255 * coded).astype(np.uint8)[..., None], 3, axis=2)
    assert np.ptp(dark) > 30
    assert np.ptp(apply_tone(dark, Tone(fall2=0.7, fall4=0.3, fall6=-0.1))) <= 2


def test_a_shoot_of_the_rig_tells_what_its_lens_darkens(milestone_set: RigSet) -> None:
    folder = milestone_set.photos
    paths = sorted(p.name for p in folder.iterdir())
    glances = [glance(folder, p) for p in paths]
    found = inspect(paths, glances)
    curve = found.photos[0].falloff
    assert curve is not None
    assert all(p.falloff == curve for p in found.photos)
    # the rig's lens: 0.3 + 0.7 / (1 + tan^2)^2 of the light comes through
    seen = glances[0].look
    tan = np.hypot(seen.width, seen.height) / 2 / seen.focal * np.array([0.5, 0.75, 1.0])
    true = -np.log2(0.3 + 0.7 / (1 + tan**2) ** 2)
    # a single lap shows little of the corners
    np.testing.assert_allclose(stops_at((curve[0], curve[1], curve[2]), np.array([0.5, 0.75, 1.0])), true, atol=0.07)
    assert any("darkens the corners" in f for f in found.findings)
