"""Which way is up, however the camera was held: laps, ground, how photos were held and where cameras look are weighed."""

from __future__ import annotations

import numpy as np
import pytest

from vast_quarry.core.align.frame import world_frame
from vast_quarry.core.align.gravity import find_up, lap_normal, up_from_mixed_photos
from vast_quarry.core.plan.rings import rings
from vast_quarry.core.pose import Similarity, rotation_from_vector

TURNED = Similarity(2.3, rotation_from_vector([0.9, -0.7, 1.3]), np.array([2.0, -1.0, 4.0]))
UP = TURNED.directions(np.array([[0.0, 0.0, 1.0]]))[0]


def roll(degrees: float) -> np.ndarray:
    """A camera turned about its line of sight."""
    return np.asarray(rotation_from_vector([0.0, 0.0, np.radians(degrees)]))


def shot(
    rng: np.random.Generator, rolls: np.ndarray, ground: bool, elevations: tuple[float, ...] = (12.0, 40.0)
) -> tuple:
    """Cameras on laps about a box, each rolled; points of the box, of a ground if there is one, and of a wall behind."""
    stations = rings([0, 0, 0.4], 2.0, list(elevations), 12, jitter=0.02, seed=3)
    box = rng.uniform([-0.2, -0.15, 0], [0.2, 0.15, 0.8], (900, 3))
    points = [box]
    if ground:
        flat = rng.uniform(-1.5, 1.5, (1200, 3)) * (1, 1, 0) + rng.normal(0, 0.004, (1200, 3)) * (0, 0, 1)
        points.append(flat)
    poses = [TURNED.pose(roll(r) @ s.rotation, s.center) for r, s in zip(rolls, stations)]
    return np.stack([p[0] for p in poses]), np.stack([p[1] for p in poses]), TURNED.points(np.concatenate(points))


def off(way: np.ndarray) -> float:
    return float(np.degrees(np.arccos(np.clip(way @ UP, -1, 1))))


N = 24
HELD = {
    "level": np.zeros(N),
    "a little askew": np.random.default_rng(2).normal(0, 4, N),
    "every second upright": np.arange(N) % 2 * 90.0,
    "every third upright, the other way": np.where(np.arange(N) % 3 == 0, -90.0, 0.0),
    "all upright": np.full(N, 90.0),
    "all upside down": np.full(N, 180.0),
    "all ways": np.arange(N) % 4 * 90.0,
}


@pytest.mark.parametrize("held", HELD)
def test_up_is_up_however_photos_were_held(rng: np.random.Generator, held: str) -> None:
    up = find_up(*shot(rng, HELD[held], ground=True))
    assert off(up.direction) < 1.0
    assert up.witness == "ground plane"
    assert up.sure != "a guess"


@pytest.mark.parametrize("held", ["level", "a little askew", "every second upright", "all upright"])
def test_laps_say_it_where_there_is_no_ground(rng: np.random.Generator, held: str) -> None:
    up = find_up(*shot(rng, HELD[held], ground=False))
    assert off(up.direction) < 1.5
    assert up.witness == "camera laps"


def test_what_cannot_be_known_is_called_a_guess(rng: np.random.Generator) -> None:
    """A turntable without its table, all photos upside down: the same as one looked up at from below, held level."""
    rotations, centers, points = shot(rng, HELD["all upside down"], ground=False)
    assert find_up(rotations, centers, points).sure == "a guess"
    assert any("is a guess" in str(n) for n in world_frame(rotations, centers, points, masked=True).notes)
    assert find_up(*shot(rng, HELD["level"], ground=False)).sure != "a guess"


def test_a_wall_behind_is_no_ground(rng: np.random.Generator) -> None:
    """Half a lap before a wall that holds more points than the subject and its floor."""
    rotations, centers, points = shot(rng, HELD["level"], ground=True)
    front = TURNED.inverse().points(centers)[:, 1] < 0.4
    wall = np.stack([rng.uniform(-3, 3, 4000), np.full(4000, 2.2), rng.uniform(0, 3, 4000)], 1)
    points = np.concatenate([points, TURNED.points(wall)])
    assert off(find_up(rotations[front], centers[front], points).direction) < 1.0


def test_a_slope_of_the_subject_is_no_ground(rng: np.random.Generator) -> None:
    """Half a lap before a house whose roof leans by 24 degrees, and nothing beneath it: the roof is all that is flat."""
    rotations, centers, _ = shot(rng, HELD["a little askew"], ground=False, elevations=(60.0, 70.0))
    front = TURNED.inverse().points(centers)[:, 1] < 0.4
    roof = rng.uniform([-0.5, -0.5, 0], [0.5, 0.5, 0], (900, 3))
    roof[:, 2] = 0.8 + np.tan(np.radians(24)) * roof[:, 1]
    walls = rng.uniform([-0.5, -0.5, 0], [0.5, 0.5, 0.4], (300, 3))
    walls[:, 1] = 0.5
    points = TURNED.points(np.concatenate([roof, walls]))
    up = find_up(rotations[front], centers[front], points, with_laps=False)
    assert up.witness != "ground plane"
    assert off(up.direction) < 12


def test_few_photos_say_it_by_how_they_are_held(rng: np.random.Generator) -> None:
    rotations, centers, points = shot(rng, HELD["level"], ground=False)
    some = [0, 3, 6]
    assert off(find_up(rotations[some], centers[some], points).direction) < 2.0


def test_each_witness(rng: np.random.Generator) -> None:
    rotations, centers, _ = shot(rng, HELD["all ways"], ground=False)
    assert min(off(up_from_mixed_photos(rotations)), off(-up_from_mixed_photos(rotations))) < 2.0
    lap = lap_normal(centers)
    assert lap is not None
    assert min(off(lap), off(-lap)) < 3.0
    line = np.outer(np.arange(12.0), [1, 0, 0])
    assert lap_normal(line) is None
