"""Stand-ins, coverage and plans against plain geometry and numpy twins."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
import trimesh

from vast_quarry.core.camera import Camera
from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.coverage import Watcher, next_best
from vast_quarry.core.plan.planner import make_plan, mend
from vast_quarry.core.plan.request import Obstacle, Request
from vast_quarry.core.plan.rings import Station, rings
from vast_quarry.core.plan.shots import shot_list
from vast_quarry.core.plan.standin import make_standin, standin_from_mesh
from vast_quarry.core.pose import look_at

CAMERA = Camera.simple(800, 600, 900.0)


@pytest.mark.parametrize(
    ("shape", "area", "volume"),
    [
        ("box", 2 * (0.4 * 0.2 + 0.2 * 0.6 + 0.6 * 0.4), 0.4 * 0.2 * 0.6),
        ("cylinder", None, math.pi * 0.2 * 0.1 * 0.6),
        ("sphere", None, math.pi / 6 * 0.4 * 0.2 * 0.6),
    ],
)
def test_shapes_have_the_size_and_volume_of_the_textbook(shape: str, area: float | None, volume: float) -> None:
    s = make_standin(shape, 0.4, 0.2, 0.6, 6000)  # type: ignore[arg-type]
    np.testing.assert_allclose(s.low, [-0.2, -0.1, 0.0], atol=2e-3)
    np.testing.assert_allclose(s.high, [0.2, 0.1, 0.6], atol=2e-3)
    # signed volume from the faces: they turn outwards, and the shape is closed
    a, b, c = s.vertices[s.faces].transpose(1, 0, 2)
    assert (np.cross(a, b) * c).sum() / 6 == pytest.approx(volume, rel=0.01)
    if area is not None:
        assert s.areas.sum() == pytest.approx(area, rel=1e-6)
    assert 3000 < len(s.faces) < 9000


def test_what_stands_on_the_ground_is_not_wanted_unless_it_is() -> None:
    bottom = make_standin("box", 1, 1, 1).normals[:, 2] < -0.9
    assert not make_standin("box", 1, 1, 1).wanted[bottom].any()
    assert make_standin("box", 1, 1, 1, underside=True).wanted[bottom].all()


def test_figure_has_no_faces_inside_it_and_a_panel_has_one_side() -> None:
    figure = make_standin("figure", 0.6, 0.4, 1.8, 6000)
    assert figure.size == pytest.approx([0.6, 0.4, 1.8], rel=0.02)
    panel = make_standin("panel", 3, 0.1, 2)
    assert (panel.normals[:, 1] < -0.99).all()
    assert panel.areas.sum() == pytest.approx(6.0)


def test_meshes_that_stand_in_are_set_down_lightened_and_spoken_of() -> None:
    ball = trimesh.creation.icosphere(6)
    s, notes = standin_from_mesh(np.asarray(ball.vertices) + 5.0, np.asarray(ball.faces))
    assert s.low == pytest.approx([-1, -1, 0], abs=0.01)
    assert len(s.faces) <= 20_000
    assert any("enough to stand in" in n for n in notes)
    _, notes = standin_from_mesh(np.asarray(ball.vertices), np.asarray(ball.faces)[:1000])
    assert any("not closed" in n for n in notes)
    with pytest.raises(PlainError):
        standin_from_mesh(np.zeros((0, 3)), np.zeros((0, 3), int))


def from_front(distance: float, height: float = 0.3) -> Station:
    center = np.array([0.0, -distance, height])
    return Station(look_at(center, [0, 0, height]), center, 0)


def test_a_camera_before_a_box_sees_its_front_and_nothing_else() -> None:
    s = make_standin("box", 0.4, 0.2, 0.6)
    c = Watcher(s, CAMERA).coverage([from_front(1.5)])
    front = s.normals[:, 1] < -0.9
    assert (c.count[front] == 1).all()
    assert (c.count[~front] == 0).all()
    # GSD at the middle of the front: its distance over the focal length
    near = np.argmin(np.linalg.norm(s.centers - [0, -0.1, 0.3], axis=1))
    assert c.gsd[near] == pytest.approx(1.4 / 900, rel=0.01)
    assert c.angle[near] < 2.0
    assert c.widest.max() == 0.0
    assert np.isinf(c.gsd[~front]).all()


def test_obstacles_and_the_frame_block() -> None:
    s = make_standin("box", 0.4, 0.2, 0.6)
    board = trimesh.creation.box((0.4, 0.01, 2.0))
    board.apply_translation([0.2, -0.5, 0])  # hides the right half
    c = Watcher(s, CAMERA, obstacles=[(np.asarray(board.vertices), np.asarray(board.faces))]).coverage(
        [from_front(1.5)]
    )
    front = s.normals[:, 1] < -0.9
    left, right = front & (s.centers[:, 0] < -0.02), front & (s.centers[:, 0] > 0.02)
    assert (c.count[left] == 1).all()
    assert (c.count[right] == 0).all()
    long_lens = Watcher(s, Camera.simple(800, 600, 6000.0)).coverage([from_front(1.5)])
    half = 0.5 * 600 * 1.4 / 6000
    inside = front & (np.abs(s.centers[:, 2] - 0.3) < half - 0.01) & (np.abs(s.centers[:, 0]) < half)
    outside = front & (np.abs(s.centers[:, 2] - 0.3) > half + 0.01)
    assert (long_lens.count[inside] == 1).all()
    assert (long_lens.count[outside] == 0).all()


def test_focus_is_judged_by_distance() -> None:
    s = make_standin("box", 0.4, 0.2, 0.6)
    front = s.normals[:, 1] < -0.9
    assert Watcher(s, CAMERA, (1.3, 1.6)).coverage([from_front(1.5)]).sharp[front].all()
    assert not Watcher(s, CAMERA, (1.6, 1.9)).coverage([from_front(1.5)]).sharp.any()


def test_the_kernels_agree_with_numpy() -> None:
    s = make_standin("sphere", 0.5, 0.5, 0.5, 800)
    stations = rings(s.middle, 1.4, [10.0, 45.0], 8)
    w = Watcher(s, CAMERA)
    c = w.coverage(stations)
    lifted = s.centers + s.normals * 1e-4 * np.linalg.norm(s.size)
    for k, st in enumerate(stations):
        to = st.center - lifted
        cosine = (to * s.normals).sum(1) / np.linalg.norm(to, axis=1)
        local = -to @ st.rotation.T
        u = CAMERA.fx * local[:, 0] / local[:, 2] + CAMERA.cx
        v = CAMERA.fy * local[:, 1] / local[:, 2] + CAMERA.cy
        inside = (u > -0.5) & (u < 799.5) & (v > -0.5) & (v < 599.5)
        # a ball hides nothing of itself that faces the camera
        np.testing.assert_array_equal(c.seen[k], inside & (cosine > 0.5))
    for p in range(0, len(s.centers), 37):
        rays = [st.center - lifted[p] for k, st in enumerate(stations) if c.seen[k, p]]
        rays = [r / np.linalg.norm(r) for r in rays]
        widest = max((math.degrees(math.acos(min(1, a @ b))) for a in rays for b in rays), default=0.0)
        assert c.widest[p] == pytest.approx(widest, abs=0.05)


def test_overlap_of_a_ball_seen_from_two_sides() -> None:
    # well seen is a cap of half angle a about the line of sight; two caps turned by d share a lens-shaped part
    s = make_standin("sphere", 0.4, 0.4, 0.4, 60_000)
    w = Watcher(s, Camera.simple(2000, 2000, 2000.0))
    for degrees in (10.0, 20.0, 30.0):
        pair = [Station(look_at(c, s.middle), c, 0) for c in (
            s.middle + 2.0 * np.array([math.sin(math.radians(t)), -math.cos(math.radians(t)), 0.0]) for t in (0.0, degrees)
        )]  # fmt: skip
        # incidence below 60 degrees at a distance of ten radii: cap of half angle 60 - asin(sin 60 / 10)
        a = math.radians(60) - math.asin(math.sin(math.radians(60)) / 10)
        d = math.radians(degrees)
        rng = np.random.default_rng(0)
        n = rng.normal(size=(400_000, 3))
        n /= np.linalg.norm(n, axis=1, keepdims=True)
        first = n[:, 1] < -math.cos(a)
        second = n @ [math.sin(d), -math.cos(d), 0] > math.cos(a)
        assert w.overlap(*pair) == pytest.approx((first & second).sum() / first.sum(), abs=0.01)


def test_neighbours_are_never_more_than_thirty_degrees_apart_and_share_what_was_asked() -> None:
    plan = make_plan(Request(shape="cylinder", overlap=0.3, step_deg=30.0))
    assert plan.per_ring == 12  # common practice, no source: 30 degrees, 12 photos a lap, is the least
    assert make_plan(Request(shape="cylinder", overlap=0.3)).per_ring == 20  # 18 degrees when nothing is said
    dense = make_plan(Request(shape="cylinder", overlap=0.9))
    assert dense.per_ring > 20
    assert dense.along >= 0.9


def test_reach_is_kept() -> None:
    p = Request(
        lowest_m=0.3, highest_m=0.9, from_deg=-40, to_deg=100, obstacles=(Obstacle((0.3, -2, 0), (3, -0.5, 2)),)
    )
    plan = make_plan(p)
    c = np.stack([s.center for s in plan.stations])
    turn = np.degrees(np.arctan2(c[:, 0], -c[:, 1]))
    assert (c[:, 2] > 0.299).all()
    assert (c[:, 2] < 0.901).all()
    assert (turn > -40.1).all()
    assert (turn < 100.1).all()
    assert not ((c[:, 0] > 0.3) & (c[:, 1] < -0.5)).any()
    assert any("pole" in f for f in plan.findings)
    everywhere = Obstacle((-9, -9, 0), (9, 9, 9))
    with pytest.raises(PlainError, match="no position"):
        make_plan(replace(p, obstacles=(everywhere,)))
    with pytest.raises(PlainError, match="no position"):
        make_plan(replace(p, lowest_m=2.0))


def test_a_wall_is_shot_in_strips_that_cover_it_at_the_wanted_detail() -> None:
    plan = make_plan(Request(kind="wall", width=4, height=2.5, depth=0.1, detail_mm=2, rings=0, highest_m=3.0))
    assert plan.request.optics(plan.distance).gsd_mm == pytest.approx(1.0, rel=0.01)
    assert plan.along >= 0.7
    assert plan.across >= 0.55
    assert plan.coverage.share_seen(plan.standin, 2) > 0.99


def test_detail_beyond_the_lens_is_told_with_the_limit() -> None:
    text = " ".join(make_plan(Request(detail_mm=0.01)).findings)
    assert "finest that can be told apart" in text
    assert "2 mm" in text


@pytest.mark.parametrize(
    "wanted", [Request(rings=1), Request(shape="figure", rings=1), Request(shape="sphere", rings=1, highest_m=1.0)]
)
def test_six_chosen_shots_do_at_least_as_much_as_twelve_spread_ones(wanted: Request) -> None:
    plan = make_plan(wanted)
    before = plan.coverage.share_seen(plan.standin)
    chosen = [m.station for m in mend(plan, 6)]
    after = plan.watcher.coverage([*plan.stations, *chosen]).share_seen(plan.standin)
    spread = make_plan(replace(wanted, extra=tuple(
        tuple(plan.distance * np.array([math.sin(a) * math.cos(e), -math.cos(a) * math.cos(e), math.sin(e)]) + [0, 0, 0.3])
        for a, e in zip(np.arange(12) * math.tau / 12, np.radians([5.0, 30.0, 55.0] * 4))
    )))  # fmt: skip
    assert after - before >= spread.coverage.share_seen(spread.standin) - before - 1e-9
    assert after > before


def test_greedy_takes_the_best_first_and_stops_when_nothing_is_left() -> None:
    s = make_standin("box", 0.4, 0.2, 0.6)
    w = Watcher(s, CAMERA)
    side = Station(look_at([1.5, 0, 0.3], [0, 0, 0.3]), np.array([1.5, 0, 0.3]), 0)
    found = next_best(w, [from_front(1.5)] * 3, [side, from_front(1.5)], 5)
    assert [m.station is side for m in found] == [True]


def test_shots_are_left_out_and_added_by_number() -> None:
    plan = make_plan(Request(rings=1, removed=(0, 3), extra=((0.0, -1.0, 1.0),)))
    assert plan.numbers[:2] == [1, 2]
    assert plan.numbers[-1] == -1
    assert len(plan.stations) == 19
    lines = shot_list(plan).strip().splitlines()
    assert len(lines) == 20
    assert lines[0].startswith("shot,lap,turn_deg")
    assert lines[-1].split(",")[2] == "0"  # the added one stands before the front
    with pytest.raises(PlainError, match="left out"):
        make_plan(Request(rings=1, removed=tuple(range(20))))


@pytest.mark.parametrize(
    ("known", "says"),
    # remedies of the trade (common practice, no source)
    [
        ({"skin": "shiny"}, "rubs off"),
        ({"skin": "transparent"}, "evaporates"),
        ({"skin": "plain"}, "faint relief"),
        ({"way": "turntable"}, "backdrop"),
        ({"holes": True}, "both rims"),
        ({"recesses": True}, "light them"),
        ({"underside": True}, "turn it over"),
        ({"underside": True, "turnable": False}, "through glass"),
    ],
)
def test_difficult_subjects_come_with_a_remedy(known: dict, says: str) -> None:
    assert says in " ".join(make_plan(Request(**known)).findings)
    assert says not in " ".join(make_plan(Request()).findings)


def test_an_underside_that_is_wanted_gets_a_lap_from_below() -> None:
    wanted = make_plan(Request(underside=True))
    below = [s for s in wanted.stations if s.role == "underside"]
    assert all(s.center[2] < 0.29 for s in below)
    assert wanted.coverage.share_seen(wanted.standin) > 0.99
    without = wanted.watcher.coverage([s for s in wanted.stations if s.role != "underside"])
    assert without.share_seen(wanted.standin) < 0.97
