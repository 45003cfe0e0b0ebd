"""The lens database against sensor sizes that makers publish (values from memory)."""

from __future__ import annotations

import numpy as np
import pytest

from vast_quarry.core.photo.exif import Exif, focal_length_pixels
from vast_quarry.core.photo.falloff import stops_at
from vast_quarry.core.photo.lensdb import PHONES, crop_of, falloff_of, find_cameras, find_lenses, sensor_of


def test_sensor_sides_follow_from_the_crop_factor() -> None:
    assert sensor_of(1.0) == pytest.approx((36.0, 24.0), abs=0.01)
    assert sensor_of(2.0, 4 / 3) == pytest.approx((17.3, 13.0), abs=0.05)
    assert sensor_of(1.534, 1.5) == pytest.approx((23.5, 15.6), abs=0.1)


def test_cameras_are_found_by_any_words_of_their_names() -> None:
    found = find_cameras("EOS 6D")
    assert found
    assert all("eos" in c.name.lower() and "6d" in c.name.lower() for c in found)
    assert found[0].sensor_mm[0] == pytest.approx(35.8, abs=0.4)
    assert find_cameras("no such camera at all") == []
    assert {c.name for c in find_cameras("phone sensor")} >= set(PHONES)


def test_lenses_that_fit() -> None:
    lenses = find_lenses(find_cameras("EOS 6D")[0].name, "50mm")
    assert lenses
    assert any(x.shortest_mm <= 50 <= x.longest_mm for x in lenses)
    assert find_lenses("no such camera") == []


def test_crop_factor_by_the_names_in_exif() -> None:
    assert crop_of("NIKON CORPORATION", "NIKON D7000") == pytest.approx(1.53, abs=0.02)
    assert crop_of("Hollowmere", "Hollowmere P4") is None


def test_focal_length_by_the_cameras_name() -> None:
    # 50 mm on a sensor of 1.53 times the crop: 76.5 mm for 36 x 24, of 43.27 mm across
    exif = Exif(make="NIKON CORPORATION", model="NIKON D7000", focal_mm=50.0)
    focal, source = focal_length_pixels(exif, 4928, 3264)
    assert source == "lens database"
    assert focal == pytest.approx(50 * 1.53 / 43.27 * (4928**2 + 3264**2) ** 0.5, rel=0.02)
    assert focal_length_pixels(Exif(make="Hollowmere", model="P4", focal_mm=20.0), 1200, 900)[1] == "guessed"


def test_a_lens_darkens_its_corners_most_when_wide_open() -> None:
    # common practice, no source: a fast normal lens loses one to two and a half stops wide open, less than half a stop at f/8
    camera, lens = ("Canon", "Canon EOS 5D Mark III"), "Canon EF 50mm f/1.8 II"
    wide, stopped = falloff_of(*camera, lens, 50, 1.8), falloff_of(*camera, lens, 50, 8.0)
    assert wide is not None
    assert stopped is not None
    corner = np.ones(1)
    assert 1.0 < stops_at(wide, corner)[0] < 2.5
    assert 0.2 < stops_at(stopped, corner)[0] < 0.5
    # lensfun's "pa" model has nothing to take away in the middle
    assert stops_at(wide, np.zeros(1))[0] == 0
    assert falloff_of(*camera, None, 50, 8.0) is None  # which lens was on it is not known
    assert falloff_of("no", "such camera", lens, 50, 8.0) is None
