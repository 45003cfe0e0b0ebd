"""Tone applied in linear light; evening out measured by published colour differences."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from skimage.color import deltaE_ciede2000, rgb2lab

from vast_quarry.core.photo.reading import load_rgb
from vast_quarry.core.photo.tone import Tone, apply_tone, exposure_stops, fill_by_exposure, local_contrast
from vast_quarry.core.rig.defects import Planted
from vast_quarry.core.rig.shoot import ShootSettings, shoot
from vast_quarry.pipeline.glances import glance
from vast_quarry.pipeline.judging import inspect

# Sharma, Wu, Dalal (2005), table 1: pairs 1, 4, 7, 10, 17, 25 and 34 (L, a, b; L, a, b; difference), values from memory
SHARMA = [
    (50.0, 2.6772, -79.7751, 50.0, 0.0, -82.7485, 2.0425),
    (50.0, -1.3802, -84.2814, 50.0, 0.0, -82.7485, 1.0000),
    (50.0, 0.0, 0.0, 50.0, -1.0, 2.0, 2.3669),
    (50.0, 2.4900, -0.0010, 50.0, -2.4900, 0.0010, 7.1792),
    (50.0, 2.5, 0.0, 73.0, 25.0, -18.0, 27.1492),
    (60.2574, -34.0099, 36.2677, 60.4626, -34.1751, 39.4387, 1.2644),
    (2.0776, 0.0795, -1.1350, 0.9033, -0.0636, -0.5514, 0.9082),
]


@pytest.mark.parametrize("pair", SHARMA)
def test_the_colour_difference_is_the_published_one(pair: tuple[float, ...]) -> None:
    assert float(deltaE_ciede2000(np.array(pair[:3]), np.array(pair[3:6]))) == pytest.approx(pair[6], abs=1e-4)


def flat(level: int) -> np.ndarray:
    return np.full((8, 8, 3), level, np.uint8)


def light(level: float) -> float:
    x = level / 255
    return x / 12.92 if x <= 0.04045 else ((x + 0.055) / 1.055) ** 2.4


def test_a_stop_is_twice_the_light_and_channels_are_changed_by_themselves() -> None:
    out = apply_tone(flat(100), Tone(brightness=1.0))
    assert light(out[0, 0, 0]) == pytest.approx(2 * light(100), rel=0.01)
    warm = apply_tone(flat(100), Tone(red=0.5, blue=-0.5))[0, 0]
    assert light(warm[0]) / light(warm[2]) == pytest.approx(2.0, rel=0.02)
    assert warm[1] == 100
    np.testing.assert_array_equal(apply_tone(flat(77), None), flat(77))
    assert Tone.from_dict({}) is None
    assert Tone.from_dict(Tone(shadows=0.4).as_dict()) == Tone(shadows=0.4)


def test_sixteen_bits_take_the_same_tone_in_finer_steps() -> None:
    rng = np.random.default_rng(3)
    eight = rng.integers(0, 256, (40, 60, 3), np.uint8)
    tone = Tone(brightness=0.7, red=-0.2, shadows=0.6, contrast=0.2, saturation=0.1, corners=0.3)
    np.testing.assert_allclose(apply_tone(eight * np.uint16(257), tone) / 257, apply_tone(eight, tone), atol=0.51)
    soft = apply_tone(eight * np.uint16(257), Tone(denoise=0.5)) / 257
    np.testing.assert_allclose(soft, apply_tone(eight, Tone(denoise=0.5)), atol=1.5)
    # dark places lifted: of 8 bits 21 values are left, of 16 all
    dark = np.repeat(np.linspace(0, 20 * 257, 500).astype(np.uint16)[None, :, None], 3, axis=2)
    assert len(np.unique(apply_tone(dark, Tone(shadows=1.0)))) > 490


def test_shadows_are_lifted_and_lights_left_without_an_edge() -> None:
    ramp = np.repeat(np.arange(256, dtype=np.uint8)[None, :, None], 3, axis=2)
    lifted = apply_tone(ramp, Tone(shadows=1.0))[0, :, 0].astype(int)
    assert lifted[20] > 40
    assert lifted[200] == 200
    assert (np.diff(lifted) >= 0).all()  # never turned round
    assert np.diff(lifted).max() < 12  # nor torn apart
    contrast = apply_tone(ramp, Tone(contrast=1.0))[0, :, 0].astype(int)
    assert contrast[64] < 64
    assert contrast[190] > 190
    assert (np.diff(contrast) >= 0).all()
    grey = apply_tone(np.full((4, 4, 3), (200, 60, 60), np.uint8), Tone(saturation=-1.0))
    assert np.ptp(grey, axis=2).max() <= 1
    cut = apply_tone(ramp, Tone(black=0.2, white=0.8))[0, :, 0]
    assert cut[50] == 0
    assert cut[205] == 255


def test_local_contrast_brings_out_what_lies_in_the_dark() -> None:
    rng = np.random.default_rng(0)
    dark = np.repeat((20 + rng.normal(0, 2, (240, 320))).clip(0, 255).astype(np.uint8)[..., None], 3, axis=2)
    assert local_contrast(dark).std() > 1.5 * dark.std()


def test_how_bright_a_photo_is_that_shares_nothing_follows_from_its_exposure() -> None:
    # a stop: twice the time, twice the ISO, or the aperture wider by the root of two (ISO 2720)
    base = exposure_stops(1 / 125, 8.0, 100)
    assert exposure_stops(1 / 62.5, 8.0, 100) - base == pytest.approx(1.0)
    assert exposure_stops(1 / 125, 8.0 / 2**0.5, 100) - base == pytest.approx(1.0)
    assert exposure_stops(1 / 125, 8.0, 400) - base == pytest.approx(2.0)
    assert np.isnan(exposure_stops(None, 8.0, 100))
    exposures = np.array([0.0, 1.0, -0.5, 0.2, 1.5]) + base
    tones = np.repeat((exposures - np.median(exposures[:4]))[:, None], 3, axis=1)
    tones[4] = np.nan
    filled = fill_by_exposure(tones, exposures)
    np.testing.assert_allclose(filled[4], tones[1] + 0.5)
    np.testing.assert_array_equal(filled[:4], tones[:4])
    # left on automatic while the light changed: what was exposed more is no brighter
    even = np.zeros((5, 3))
    even[4] = np.nan
    assert np.isnan(fill_by_exposure(even, 3 * exposures)[4]).all()
    assert np.isnan(fill_by_exposure(tones[3:], exposures[3:])[1]).all()  # too few to say


def test_evening_out_brings_the_subjects_colour_together(tmp_path: Path) -> None:
    # a lap with +-0.7 EV and a drifting white balance; the spread of the colour of the subject's middle, CIEDE2000
    drift = (0.7, -0.4, 0.3, -0.7, 0.5, 0.0, -0.6, 0.2, 0.65, -0.3, -0.1, 0.4)
    planted = [Planted(k + 1, "ev", d) for k, d in enumerate(drift)]
    planted += [Planted(k + 1, "warm", 0.5 * drift[(k + 5) % 12]) for k in range(12)]
    settings = ShootSettings(rings=1, per_ring=12, width=320, height=240, heldout=0, planted=tuple(planted), quality=95)
    shoot(settings, tmp_path / "drift")
    shoot(ShootSettings(rings=1, per_ring=12, width=320, height=240, heldout=0, quality=95), tmp_path / "even")
    folder = tmp_path / "drift" / "photos"
    paths = sorted(p.name for p in folder.iterdir())
    found = inspect(paths, [glance(folder, p) for p in paths])
    tones = {p.photo: p.tone for p in found.photos}
    assert all(tones.values())

    def color(rgb: np.ndarray) -> np.ndarray:
        h, w = rgb.shape[:2]
        middle = rgb[int(0.35 * h) : int(0.65 * h), int(0.42 * w) : int(0.58 * w)].reshape(-1, 3)
        return rgb2lab(middle.mean(0)[None] / 255)[0]

    def off(evened: bool) -> float:
        each = []
        for p in paths:
            t = tones[p]
            assert t is not None
            tone = Tone(red=-t[0], green=-t[1], blue=-t[2]) if evened else None
            true = color(load_rgb(tmp_path / "even" / "photos" / p))
            each.append(color(apply_tone(load_rgb(folder / p), tone)) - true)
        # all may be off by the same: what counts is how far apart they are
        lab = np.array(each) + np.array([50.0, 5.0, 10.0])
        return float(deltaE_ciede2000(lab, np.median(lab, axis=0)[None]).mean())

    assert off(False) > 6.0
    assert off(True) < 2.0
