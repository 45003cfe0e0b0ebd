"""Optics of the plan against formulas and tables from outside."""

from __future__ import annotations

import math

import pytest

from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.optics import (
    Optics,
    airy_diameter,
    aperture_for,
    depth_of_field,
    depth_precision,
    diffraction_limit,
    exposure_value,
    field_of_view,
    hyperfocal,
    shutter_for,
)

FULL = Optics((36.0, 24.0), (6000, 4000), 50.0, 8.0, 3.0)


@pytest.mark.parametrize(
    ("focal", "horizontal", "vertical", "diagonal"),
    # angles of view of the 36 x 24 mm frame as lens makers' tables give them (from memory)
    [(24, 73.7, 53.1, 84.1), (35, 54.4, 37.8, 63.4), (50, 39.6, 27.0, 46.8), (85, 23.9, 16.1, 28.6), (200, 10.3, 6.9, 12.3)],
)  # fmt: skip
def test_angles_of_view(focal: float, horizontal: float, vertical: float, diagonal: float) -> None:
    assert field_of_view(36, focal) == pytest.approx(horizontal, abs=0.1)
    assert field_of_view(24, focal) == pytest.approx(vertical, abs=0.1)
    assert field_of_view(math.hypot(36, 24), focal) == pytest.approx(diagonal, abs=0.1)


@pytest.mark.parametrize(
    ("focal", "f_number", "metres"),
    # hyperfocal distances for c = 0.030 mm in printed depth-of-field tables (from memory, rounded there)
    [(24, 8, 2.42), (35, 8, 5.14), (50, 8, 10.5), (50, 16, 5.26), (100, 11, 30.4)],
)
def test_hyperfocal_distances(focal: float, f_number: float, metres: float) -> None:
    assert hyperfocal(focal, f_number, 0.030) / 1000 == pytest.approx(metres, rel=0.01)


def test_depth_of_field_at_the_hyperfocal_distance_is_from_half_of_it_to_infinity() -> None:
    # Ray (2002), ch. 22
    h = hyperfocal(50, 8, 0.03)
    near, far = depth_of_field(50, 8, h, 0.03)
    assert near == pytest.approx(h / 2, rel=0.01)
    assert math.isinf(far)


def test_depth_of_field_agrees_with_blur_circles_drawn_ray_by_ray() -> None:
    # a point at u images at v = f u / (u - f); the cone of the aperture f/N meets the sensor at v_s in a disc
    f, n, s, c = 35.0, 5.6, 1200.0, 0.02
    sensor = f * s / (s - f)
    for u in depth_of_field(f, n, s, c):
        image = f * u / (u - f)
        disc = (f / n) * abs(image - sensor) / image
        assert disc == pytest.approx(c, rel=1e-9)
    near, far = depth_of_field(f, n, s, c)
    assert aperture_for(f, s, near, far, c) == pytest.approx(n, rel=1e-9)


def test_airy_disc_and_the_aperture_it_limits() -> None:
    # 2.44 x 0.55 um x N (Ray 2002, ch. 5): 10.7 um at f/8, 21.5 um at f/16
    assert airy_diameter(8) * 1000 == pytest.approx(10.7, abs=0.05)
    assert airy_diameter(16) * 1000 == pytest.approx(21.5, abs=0.05)
    assert airy_diameter(diffraction_limit(0.004)) == pytest.approx(0.008)


def test_exposure_values_of_the_sunny_day() -> None:
    # the "sunny 16" rule: f/16 and 1/ISO in full sun, which is EV 15 at ISO 100 (common practice, no source)
    assert exposure_value(16, 1 / 100, 100) == pytest.approx(14.64, abs=0.01)
    assert exposure_value(16, 1 / 128, 100) == pytest.approx(15.0)
    assert exposure_value(16, 1 / 512, 400) == pytest.approx(15.0)
    assert exposure_value(8, shutter_for(12, 8, 200), 200) == pytest.approx(12.0)
    # EV 0 is f/1 and one second (ISO 2720)
    assert exposure_value(1, 1) == 0


def test_ground_sample_and_frame() -> None:
    # GSD = pixel pitch x distance / focal length (Luhmann et al. 2014)
    assert FULL.gsd_mm == pytest.approx(0.006 * 3000 / 50)
    assert FULL.frame_m == pytest.approx((36 * 3 / 50, 24 * 3 / 50))


def test_depth_precision_is_that_of_the_normal_case() -> None:
    # Luhmann et al. (2014): s_Z = Z / c * Z / B * s_px; here Z = 2 m, B = 0.5 m, c = 4000 px, 0.5 px: 1 mm
    assert depth_precision(2.0, 0.5, 4000, 0.5) == pytest.approx(0.001)
    assert math.isinf(depth_precision(2.0, 0.0, 4000))


def test_equivalents_and_the_rule_for_the_hand() -> None:
    small = Optics((23.5, 15.6), (6000, 4000), 35.0, 8.0, 0.8)
    assert small.focal35_mm == pytest.approx(53.7, abs=0.1)  # crop factor 1.534
    # common practice, no source: 1 / (35 mm equivalent), and not slower than 1/120 s
    assert small.longest_by_hand() == pytest.approx(1 / 120)
    assert Optics((36, 24), (6000, 4000), 200.0, 8.0, 3.0).longest_by_hand() == pytest.approx(1 / 200)
    # at that time a hand blurs by a circle of confusion
    assert FULL.hand_blur_px(1 / 50) * FULL.pitch_mm == pytest.approx(FULL.circle_mm)


def test_a_turning_subject_blurs_by_its_way() -> None:
    # 10 degrees a second at a radius of 0.1 m for 1/100 s: 0.1745 mm, at 2.9 m with GSD 0.348 mm
    assert FULL.table_blur_px(0.01, 10, 0.1) == pytest.approx(0.17453 / 0.348, rel=1e-3)


@pytest.mark.parametrize(
    "values",
    [((0, 24), (6000, 4000), 50, 8, 3), ((36, 24), (0, 4000), 50, 8, 3), ((36, 24), (6000, 4000), 0, 8, 3),
     ((36, 24), (6000, 4000), -50, 8, 3), ((36, 24), (6000, 4000), 50, float("nan"), 3), ((36, 24), (6000, 4000), 50, 8, 0.04)],
)  # fmt: skip
def test_impossible_optics_are_refused(values: tuple) -> None:
    with pytest.raises(PlainError):
        Optics(*values)
