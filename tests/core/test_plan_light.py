"""Light by ray casting against closed forms; backdrops against published colours."""

from __future__ import annotations

import math

import numpy as np
import pytest

from vast_quarry.core.camera import Camera
from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.backdrop import lab, propose_backdrop
from vast_quarry.core.plan.coverage import Watcher
from vast_quarry.core.plan.findings import best_aperture, shutter_of
from vast_quarry.core.plan.light import DARK, illuminance, into_light, lit, own_shadow
from vast_quarry.core.plan.planner import make_plan
from vast_quarry.core.plan.request import Light, Request
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.plan.standin import make_standin, standin_of
from vast_quarry.core.pose import look_at

CAMERA = Camera.simple(800, 600, 900.0)


def box() -> Watcher:
    return Watcher(make_standin("box", 0.4, 0.2, 0.6, 800), CAMERA)


def test_overcast_sky_on_a_level_and_an_upright_face() -> None:
    # Moon and Spencer's sky: an upright face gets 0.396 of what a level one gets (integral of the luminance, in closed
    # form (pi/2 + 4/3) / 3 / (7 pi / 9)), and half of what the ground gives back
    w = box()
    e = illuminance(w, Light("overcast"), False)
    n = w.standin.normals
    upright = (math.pi / 2 + 4 / 3) / 3 / (7 * math.pi / 9)
    assert upright == pytest.approx(0.396, abs=0.001)
    assert np.median(e[n[:, 2] > 0.9]) == pytest.approx(1.0, rel=0.02)
    assert np.median(e[n[:, 1] < -0.9]) == pytest.approx(upright + 0.1, rel=0.03)


def test_sun_lights_one_side_and_lamps_fall_off_with_the_square() -> None:
    w = box()
    n = w.standin.normals
    sun = illuminance(w, Light("sun", turn_deg=0.0, rise_deg=30.0), False)
    # cos 30 on the front against sin 30 on the top, by the plane angles alone
    front, top, behind = sun[n[:, 1] < -0.9].mean(), sun[n[:, 2] > 0.9].mean(), sun[n[:, 1] > 0.9].mean()
    assert (front - behind) / (top - 0.2) == pytest.approx(
        math.cos(math.radians(30)) / math.sin(math.radians(30)), rel=0.03
    )
    near = illuminance(w, Light("lamps", lamps=("above",), lamp_m=1.0), False)
    assert near[n[:, 2] > 0.9].mean() > 5 * near[n[:, 1] > 0.9].mean()
    alone = [illuminance(w, Light("lamps", lamps=("camera",), lamp_m=d), False)[n[:, 1] < -0.9] for d in (2.0, 8.0)]
    # nearer lamps light the middle of a face more than its ends
    assert np.ptp(np.log(alone[0])) > 3 * np.ptp(np.log(alone[1]))


def test_a_deep_recess_is_dark_and_a_lamp_dome_on_a_turntable_is_even() -> None:
    # a pit 0.1 wide and 0.5 deep in a slab: the bottom sees little of the sky
    out, deep = make_standin("box", 1, 1, 0.6, 6000), 0.5
    v, f = out.vertices.copy(), out.faces
    c = out.centers
    pit = (np.abs(c[:, 0]) < 0.06) & (np.abs(c[:, 1]) < 0.06) & (out.normals[:, 2] > 0.9)
    v[np.unique(f[pit]), 2] -= deep
    s = standin_of(v, f)
    w = Watcher(s, CAMERA)
    light = lit(w, Light("overcast"))
    bottom = (s.centers[:, 2] < 0.15) & (np.abs(s.centers[:, :2]) < 0.03).all(1) & (s.normals[:, 2] > 0.9)
    assert bottom.any()
    assert (light.stops[bottom] < DARK).all()
    assert light.dark > 0
    turning = Watcher(make_standin("cylinder", 0.2, 0.2, 0.3, 1500), CAMERA)
    still = lit(turning, Light("lamps", lamps=("sides", "camera")), turns=False)
    assert lit(turning, Light("lamps", lamps=("sides", "camera")), turns=True).spread < still.spread


def at(x: float, y: float, z: float) -> Station:
    return Station(look_at([x, y, z], [0, 0, 0.3]), np.array([x, y, z]), 0)


def test_own_shadow_and_looking_into_the_light() -> None:
    w = box()
    low_sun = Light("sun", turn_deg=0.0, rise_deg=20.0)
    before, beside, behind = at(0, -1.5, 1.0), at(-1.5, 0, 1.0), at(0, 1.5, 0.31)
    assert own_shadow(w, low_sun, [before, beside, behind]) == [0]
    assert own_shadow(w, Light("overcast"), [before]) == []
    assert own_shadow(w, low_sun, [at(0, -8.0, 1.0)]) == []  # further back it falls short
    aside = Station(look_at([-1.0, 1.5, 0.3], [-1.0, -1.5, 1.4]), np.array([-1.0, 1.5, 0.3]), 0)
    assert into_light(w, low_sun, [before, aside]) == [1]


def test_the_light_asks_for_a_shutter_and_a_hand_has_a_limit() -> None:
    # sunny 16: at f/16 in the sun one over the ISO (common practice, no source)
    assert 1 / shutter_of(Request(light=Light("sun"), f_number=16, iso=100)) == pytest.approx(128, rel=0.01)
    text = " ".join(make_plan(Request(light=Light("lamps"), iso=100)).findings)
    assert "Use a tripod" in text
    assert "too fast" in " ".join(make_plan(Request(hold="table", table_deg_s=90.0, shutter_s=0.02)).findings)


def test_backdrop_differs_from_the_subject() -> None:
    # L*a*b* of pure sRGB red, green and blue under D65 (published tables of sRGB primaries; values from memory)
    np.testing.assert_allclose(
        lab(np.array([[255, 0, 0], [0, 255, 0], [0, 0, 255]])),
        [[53.24, 80.09, 67.20], [87.73, -86.18, 83.18], [32.30, 79.19, -107.86]], atol=0.05,
    )  # fmt: skip
    clay = propose_backdrop(["#b4552f", "#7a3a22"], 0.24, 0.38)
    assert clay.name in ("blue", "green", "turquoise")
    assert clay.difference > 60
    assert propose_backdrop(["#285fb0"], 0.24, 0.38).name not in ("blue", "turquoise")
    assert propose_backdrop([], 1, 1).distance_m > propose_backdrop([], 0.2, 0.2).distance_m > 0.1
    with pytest.raises(PlainError, match="no colour"):
        propose_backdrop(["clay"], 1, 1)


def test_best_aperture_lies_between_depth_of_field_and_diffraction() -> None:
    p = Request()
    plan = make_plan(p)
    o = p.optics(plan.distance)
    best = best_aperture(p, o)
    # worked by hand: Airy disc of two pixels 2 x 14.4 um / (2.44 x 0.55 um) = f/21.5; a blur of one circle of confusion
    # (17.3 x 12.98 mm, 14.4 um) at 20 mm from 0.2 m before and behind the middle asks for f/3.4
    reach = float(np.hypot(0.34, 0.21)) / 2
    s = plan.distance * 1000
    need = 20**2 * 1000 * reach / (s - 1000 * reach) / (o.circle_mm * (s - 20))
    assert need < best < 2 * o.pitch_mm / (2.44 * 550e-6)
    assert best == pytest.approx(math.sqrt(need * 2 * o.pitch_mm / (2.44 * 550e-6)), rel=1e-6)
