"""How a finished alignment is stood up anew: measured distances, a rough height, levelling; and what the page is told."""

from __future__ import annotations

import json
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from tests.conftest import SMALL, RigSet, camera_of, moved
from tests.pipeline.test_run import Silent, places

from vast_quarry.core.camera import project
from vast_quarry.core.errors import PlainError
from vast_quarry.core.pose import fit_similarity
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.solution import Solution, load_solution, way_back
from vast_quarry.pipeline.steps.cameras import CamerasSettings
from vast_quarry.pipeline.store import Store
from vast_quarry.server.app import make_app


@pytest.fixture
def data(built_data: Path, tmp_path: Path) -> Path:
    return moved(built_data, tmp_path / "data")


def stood(data: Path, **settings: Any) -> tuple[Path, dict[str, Any], Silent]:
    """The milestone's cameras run again with other settings: folder of the version, its figures, what was reported."""
    root = data / "projects" / "1"
    recipe = recipe_for(Grade.ROUGH, {**SMALL, "cameras": {**SMALL["cameras"], **settings}})
    reporter = Silent()
    done = Runner(Store(root), reporter).run(recipe, places(root / "photos"), "cameras")
    version = done.versions["cameras"]
    return Store(root).folder(version), dict(version.figures) | {"findings": version.findings}, reporter


def marks(rig: RigSet, x: np.ndarray, photos: list[int], rng: np.random.Generator, noise: float = 0.5) -> dict:
    """A true place as somebody marks it in some photos."""
    out = {}
    for k in photos:
        c = rig.cameras[k]
        px, _ = project(camera_of(c), np.array(c["rotation"]), np.array(c["center"]), x[None])
        out[c["photo"]] = (px[0] + rng.normal(0, noise, 2)).tolist()
    return {"marks": out}


def bar(rig: RigSet, name: str, ends: list, rng: np.random.Generator, **more: Any) -> dict[str, Any]:
    a, b = (np.array(e, float) for e in ends)
    length = 1000 * float(np.linalg.norm(a - b))
    photos = [12, 14, 16, 18]
    return {
        "name": name, "a": marks(rig, a, photos, rng), "b": marks(rig, b, photos, rng),
        "length_mm": length + float(rng.normal(0, 0.5)), "within_mm": 0.5, **more,
    }  # fmt: skip


def test_measured_distances_give_the_true_scale(data: Path, milestone_set: RigSet, rng: np.random.Generator) -> None:
    """Two bars measured within 0.5 mm and one that only checks: the scale is true within what is stated."""
    bars = [
        bar(milestone_set, "tall", [(0, 0, 0.0), (0, 0, 0.55)], rng),
        bar(milestone_set, "wide", [(-0.3, 0, 0), (0.3, 0.1, 0)], rng),
        bar(milestone_set, "check", [(0, -0.3, 0), (0.1, 0.3, 0.1)], rng, checks=True),
    ]
    folder, told, reporter = stood(data, bars=bars, level=[["z", 30.0]])
    assert not any("Matching" in text for _, text, _, _ in reporter.stages), "it was aligned again"
    document = json.loads((folder / "cameras.json").read_text("utf-8"))
    assert document["unit"] == "m"
    aligned = {c["photo"]: c["center"] for c in document["cameras"] if c["aligned"]}
    true = {c["photo"]: c["center"] for c in milestone_set.cameras}
    s = fit_similarity([aligned[p] for p in aligned], [true[p] for p in aligned])
    off = 100 * abs(s.scale - 1)
    assert off < max(2 * told["scale_sigma_percent"], 0.3)  # the alignment of so small photos is off by itself
    assert off < 0.4
    assert [b["checks"] for b in told["bars"]] == [False, False, True]
    assert all(abs(b["miss_mm"]) < 6 for b in told["bars"])
    assert told["upright_by"] == "hand"
    assert any("2 measured distances give the scale" in str(f) for f in told["findings"])
    # back to none: as it was found, and said so once
    _, told, _ = stood(data)
    assert told["scale_from"] == "nothing"
    assert "bars" not in told
    assert sum("No scale yet" in str(f) for f in told["findings"]) == 1


def test_a_picked_centre_stands_over_the_origin(data: Path) -> None:
    """However it is turned and scaled; and what is picked there can be told in the frame in which it was found."""
    found = load_solution(stood(data)[0])
    spot = found.points[len(found.points) // 3]
    folder, told, _ = stood(data, height=620.0, level=[["z", 30.0]], center=spot.tolist())
    now = load_solution(folder)
    moved_to = now.points[len(now.points) // 3]
    np.testing.assert_allclose(moved_to[:2], 0, atol=1e-9)
    assert told["upright_by"] == "hand"
    back = way_back(now, load_solution(folder, "as-found"))
    assert moved_to[2] == pytest.approx(spot[2] / back.scale, abs=1e-6)  # the ground stays where it was
    np.testing.assert_allclose(back.points(moved_to[None])[0], spot, atol=1e-9)
    # the keep box went with it
    inside = now.box.inside(now.points)
    assert (inside == found.box.inside(found.points)).mean() > 0.95


def test_a_rough_height(data: Path) -> None:
    folder, told, _ = stood(data, height=620.0)
    assert told["scale_from"] == "height"
    box = load_solution(folder).box
    assert 0.6 < box.high[2] < 0.75
    assert json.loads((folder / "cameras.json").read_text("utf-8"))["unit"] == "arbitrary"


def test_what_cannot_be_is_told(data: Path, milestone_set: RigSet, rng: np.random.Generator) -> None:
    with pytest.raises(PlainError, match="no group 2"):
        stood(data, group=2)
    lost = bar(milestone_set, "lost", [(0, 0, 0), (0, 0, 0.5)], rng)
    lost["a"]["marks"] = {"nowhere.jpg": [3, 4], "elsewhere.jpg": [5, 6]}
    with pytest.raises(PlainError, match="lost: an end is marked in too few photos"):
        stood(data, bars=[lost])
    with pytest.raises(PlainError):
        stood(data, bars=[{**lost, "length_mm": -4}])


def test_where_a_mark_must_lie_in_another_photo(data: Path, milestone_set: RigSet, rng: np.random.Generator) -> None:
    client = TestClient(make_app(data), "http://127.0.0.1")
    where = "/api/v1/projects/1/layers/cameras/mark-help"
    x = np.array([0.0, 0.0, 0.4])
    seen = marks(milestone_set, x, [12, 14, 17], rng, 0.0)["marks"]
    (first, a), (second, b), (photo, true) = seen.items()
    one = client.post(where, json={"marks": {first: a}, "photo": photo}).json()
    assert one["at"] is None
    line = np.array(one["line"])
    steps = line[1:] - line[:-1]
    along = np.clip(((true - line[:-1]) * steps).sum(1) / (steps**2).sum(1), 0, 1)
    assert np.linalg.norm(line[:-1] + along[:, None] * steps - true, axis=1).min() < 1.0
    two = client.post(where, json={"marks": {first: a, second: b}, "photo": photo}).json()
    assert np.linalg.norm(np.array(two["at"]) - true) < 1.0
    assert two["miss_px"] < 1.0
    assert client.post(where, json={"marks": {first: a}, "photo": "nowhere.jpg"}).status_code == 404
    assert client.post(where, json={"marks": {}, "photo": photo}).status_code == 422


def test_what_a_lens_leaves_over(data: Path, milestone_set: RigSet) -> None:
    """Errors lean nowhere much, and the curve of distortion is that of the true lens."""
    client = TestClient(make_app(data), "http://127.0.0.1")
    (lens,) = client.get("/api/v1/projects/1/layers/cameras/lenses").json()
    assert lens["photos"] == 24
    solution = load_solution(
        Store(data / "projects" / "1").folder(Store(data / "projects" / "1").versions("cameras")[-1])
    )
    assert sum(c["count"] for c in lens["cells"]) == len(solution.photo)
    rich = [c for c in lens["cells"] if c["count"] >= 50]
    assert np.median([np.hypot(c["dx"], c["dy"]) for c in rich]) < 0.1
    true = camera_of(milestone_set.cameras[0])
    radius, moved = np.array(lens["curve"])[-1]
    r = radius / lens["focal"]
    assert moved == pytest.approx(lens["focal"] * (true.k1 * r**3 + true.k2 * r**5), abs=1.5)
    assert abs(lens["focal"] / lens["said"] - 1) < 0.05


def test_a_setting_of_an_earlier_version_still_says_what_it_said() -> None:
    """Whether all of a place is kept was a yes or no once; it is a kind of subject now."""
    assert CamerasSettings.model_validate({"place": True}).kind == "place"
    assert CamerasSettings.model_validate({"place": False}).kind == "object"
    assert CamerasSettings.model_validate({"place": True, "kind": "facade"}).kind == "facade"


def test_how_far_a_photo_is_from_what_it_shows() -> None:
    """Of a room shot from its middle the middle of the box says nothing; a photo without points is taken to show that."""
    points = np.array([[3.0, 0, 0], [0, 4, 0], [5, 0, 0]])
    box = SimpleNamespace(middle=np.array([0.0, 0, 2]))
    s = SimpleNamespace(photo=np.array([0, 0, 0]), start=np.arange(4), points=points, centers=np.zeros((2, 3)), box=box)
    assert Solution.distance(s, 0) == 4.0  # type: ignore[arg-type]
    assert Solution.distance(s, 1) == 2.0  # type: ignore[arg-type]
