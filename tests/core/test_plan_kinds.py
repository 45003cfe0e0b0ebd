"""Plans of the different kinds of subject and place, and what is edited by hand."""

from __future__ import annotations

import math
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.planner import Plan, make_plan
from vast_quarry.core.plan.request import Lap, Obstacle, Request
from vast_quarry.core.plan.standin import make_standin, standin_of


def turns(plan: Plan, role: str = "lap") -> list[float]:
    c = np.array([s.center for s in plan.stations if s.role == role])
    return list(np.round(np.degrees(np.arctan2(c[:, 0], -c[:, 1])) % 360, 3))


ROOM = Request(kind="room", width=5, depth=4, height=2.6, detail_mm=4, focal_mm=12, rings=2)
CORNER = Request(kind="corner", width=4, depth=3, height=2.2, detail_mm=4, focal_mm=14, rings=2)
GROUND = Request(kind="ground", width=4, depth=1.5, height=0.1, detail_mm=2)


@pytest.mark.parametrize(("wanted", "least"), [(ROOM, 0.97), (CORNER, 0.95), (GROUND, 0.99)])
def test_places_are_covered_from_within_reach(wanted: Request, least: float) -> None:
    plan = make_plan(wanted)
    assert plan.coverage.share_seen(plan.standin) > least
    c = np.stack([s.center for s in plan.stations])
    assert (c[:, 2] <= wanted.highest_m + 1e-9).all()
    assert not any("one spot" in f for f in plan.findings)
    assert plan.along >= wanted.overlap - 0.06
    assert math.isfinite(plan.precision)
    if wanted.kind == "room":
        assert (np.abs(c[:, 0]) < 2.5).all()
        assert (np.abs(c[:, 1]) < 2.0).all()
        for a, b in pairwise(plan.stations):  # round the corners in small steps
            if a.ring == b.ring and a.role == "lap":
                turned = math.degrees(math.acos(np.clip((np.trace(a.rotation @ b.rotation.T) - 1) / 2, -1, 1)))
                assert turned < 30.0


def test_inner_walls_face_inwards() -> None:
    s = make_standin("room", 5, 4, 2.6, 3000)
    middle = np.array([0, 0, 1.3])
    assert ((middle - s.centers) * s.normals).sum(1).min() > 0
    # floor and four walls, no ceiling
    assert s.areas.sum() == pytest.approx(5 * 4 + 2 * (5 + 4) * 2.6)
    assert make_standin("corner", 5, 4, 2.6).areas.sum() == pytest.approx(5 * 4 + (5 + 4) * 2.6)


def test_something_flown_round_is_shot_from_above_too() -> None:
    house = Request(
        kind="flown", width=12, depth=9, height=8, rings=2, focal_mm=24, sensor_mm=13.2, lowest_m=2, detail_mm=20
    )
    plan = make_plan(house)
    over = [s for s in plan.stations if s.role == "overhead"]
    assert len(over) >= 9
    assert all(s.rotation[2, 2] < -0.99 for s in over)
    assert max(s.center[2] for s in plan.stations) > 2.3  # not bound by an arm's length
    assert plan.coverage.share_seen(plan.standin) > 0.99


def test_a_marked_area_is_shot_from_where_it_is_seen() -> None:
    marked = Request(kind="area", marked=((0.0, -0.105, 0.4, 0.1),), close_ups=4)
    plan = make_plan(marked)
    assert 0 < plan.standin.wanted.sum() < 0.2 * len(plan.standin.wanted)
    assert len(plan.stations) < 0.6 * len(make_plan(Request()).stations)
    assert all(s.center[1] < 0.3 for s in plan.stations)
    assert plan.coverage.share_seen(plan.standin) == 1.0
    with pytest.raises(PlainError, match="No area"):
        make_plan(replace(marked, marked=()))
    with pytest.raises(PlainError, match="beside"):
        make_plan(replace(marked, marked=((5.0, 5.0, 5.0, 0.1),)))


def test_laps_begin_where_it_is_plainest_and_columns_go_low_middle_high() -> None:
    back = make_plan(Request(start_deg=180.0))
    assert turns(back)[0] == pytest.approx(180.0)
    columns = make_plan(Request(order="columns"))
    laps = [s for s in columns.stations if s.role == "lap"]
    assert [s.ring for s in laps[:6]] == [0, 1, 2, 0, 1, 2]
    assert len({round(t, 1) for t in turns(columns)[:3]}) == 1  # one standing place
    assert [s.center[2] for s in laps[:3]] == sorted(s.center[2] for s in laps[:3])


def test_laps_as_edited_by_hand_stand_and_a_lap_less_covers_less() -> None:
    three = make_plan(Request(laps=(Lap(10, 14), Lap(35, 20, 1.4), Lap(60, 9))))
    counts = [sum(s.ring == k and s.role == "lap" for s in three.stations) for k in range(3)]
    assert counts == [14, 20, 9]
    middle = [s for s in three.stations if s.ring == 1 and s.role == "lap"]
    assert np.linalg.norm(middle[0].center - [0, 0, 0.62 * 0.47]) == pytest.approx(1.4)
    one = make_plan(Request(laps=(Lap(10, 14),)))
    assert one.coverage.share_seen(one.standin) < three.coverage.share_seen(three.standin)


def test_shots_lead_from_lap_to_lap_where_laps_share_little() -> None:
    far_apart = Request(laps=(Lap(0, 12), Lap(60, 12)), across=0.9)
    plan = make_plan(far_apart)
    rises = sorted(s.center[2] for s in plan.stations if s.role == "transition")
    assert len(rises) == 8  # 60 degrees in steps of 12, on two sides
    assert not any(s.role == "transition" for s in make_plan(replace(far_apart, transitions=False)).stations)


def test_wider_and_nearer_shots_and_rows_for_the_wanted_detail() -> None:
    plan = make_plan(Request(establishing=6, close_ups=8))
    distance = {r: np.mean([np.linalg.norm(s.center - [0, 0, 0.29]) for s in plan.stations if s.role == r]) for r in
                ("lap", "establishing", "close-up")}  # fmt: skip
    assert distance["establishing"] > 1.2 * distance["lap"]
    assert distance["close-up"] < 0.8 * distance["lap"]
    fine = make_plan(Request(by="detail", detail_mm=0.3))
    assert fine.request.optics(fine.distance - 0.105).gsd_mm == pytest.approx(0.15, rel=0.05)
    assert len(fine.laps) > 3
    assert sum(s.role == "establishing" for s in fine.stations) == 12
    assert fine.coverage.share_seen(fine.standin) > 0.97


def test_a_shot_that_was_moved_stands_there_and_still_looks_at_the_subject() -> None:
    plan = make_plan(Request(rings=1, moved=((3, 0.9, -0.9, 0.5),)))
    s = plan.stations[3]
    np.testing.assert_allclose(s.center, [0.9, -0.9, 0.5])
    to = np.array([0, 0, 0.3]) - s.center
    assert (to / np.linalg.norm(to)) @ s.rotation[2] > 0.98


def test_tilting_on_one_spot_is_flagged() -> None:
    # common practice, no source: several tilts from one spot have no base
    plan = make_plan(Request(rings=1, moved=((3, 0.9, -0.9, 0.5), (4, 0.9, -0.9, 0.505))))
    assert any("Shots 4 and 5 are taken from one spot" in f for f in plan.findings)


def test_pulling_it_into_the_open_is_proposed_with_its_gain() -> None:
    by_the_wall = Request(from_deg=-80, to_deg=80, obstacles=(Obstacle((-2, 0.15, 0), (2, 0.3, 3)),))
    assert any("into the open" in f for f in make_plan(by_the_wall).findings)


def test_a_mesh_stands_in_with_its_own_size() -> None:
    ball = make_standin("sphere", 0.2, 0.2, 0.2, 2000)
    mesh = standin_of(ball.vertices, ball.faces)
    plan = make_plan(Request(shape="mesh"), mesh=mesh)
    assert plan.request.height == pytest.approx(0.2, rel=0.01)
    assert plan.distance < make_plan(Request()).distance / 2
    with pytest.raises(PlainError, match="no mesh"):
        make_plan(Request(shape="mesh"))
