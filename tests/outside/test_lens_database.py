"""The lens database against sensor sizes that makers publish (values from memory)."""

from __future__ import annotations

import pytest

from vast_quarry.core.photo.exif import Exif, focal_length_pixels
from vast_quarry.core.photo.lensdb import PHONES, crop_of, find_cameras, find_lenses, sensor_of


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
