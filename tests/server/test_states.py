"""What a project says of its layers: out of date as soon as photos change, what a run will make, and how a run ended."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from vast_quarry.core.words import Said
from vast_quarry.server.app import make_app
from vast_quarry.server.services.ending import end_of_run
from vast_quarry.server.services.layers import will_run
from vast_quarry.server.worker import work

LAYERS = ["photos", "masks", "cameras", "points", "surface", "texture", "finish"]


@pytest.mark.parametrize(
    ("layer", "behind", "photos", "runs"),
    [
        ("surface", {}, False, ["surface"]),
        ("surface", {"points": "out of date"}, False, ["points", "surface"]),
        ("texture", {"surface": "empty", "texture": "empty"}, False, ["surface", "texture"]),
        ("points", {}, True, ["photos", "masks", "cameras", "points"]),
        ("photos", {}, False, ["photos"]),
        ("points", dict.fromkeys(LAYERS, "empty"), False, ["photos", "masks", "cameras", "points"]),
    ],
)
def test_what_a_run_will_make(layer: str, behind: dict[str, str], photos: bool, runs: list[str]) -> None:
    assert will_run(layer, {**dict.fromkeys(LAYERS, "ready"), **behind}, photos) == runs


def run_of(findings: dict[str, int] | None = None, reused: tuple[str, ...] = (), **figures: int) -> Any:
    versions = {
        layer: SimpleNamespace(
            figures=figures if layer == "cameras" else {}, findings=[Said("x")] * (findings or {}).get(layer, 0)
        )
        for layer in ("cameras", "points")
    }
    steps = [{"layer": layer, "version": 3, "reused": layer in reused} for layer in versions]
    return SimpleNamespace(versions=versions, steps=steps)


@pytest.mark.parametrize(
    ("done", "said"),
    [
        (run_of(photos=12, placed=12), "Done. Made: Cameras 3 and Points 3."),
        (
            run_of(photos=12, placed=6, weak=1),
            "Done, but 5 of 12 photos could not be placed. Open Cameras. Made: Cameras 3 and Points 3.",
        ),
        (
            run_of({"points": 2}, photos=12, placed=12),
            "Done. There are findings in Points. Made: Cameras 3 and Points 3.",
        ),
        # what was found before is not told again of a run that only used it
        (run_of({"cameras": 2}, ("cameras",), photos=12, placed=2), "Done. Made: Points 3."),
        (run_of({"cameras": 2}, ("cameras", "points"), photos=12, placed=2), "Everything was there already."),
    ],
)
def test_a_run_says_how_it_ended(done: Any, said: str) -> None:
    assert str(end_of_run(done)) == said


@pytest.fixture
def project(tmp_path: Path) -> tuple[TestClient, Path, int]:
    """Four photos that were looked at and have no masks."""
    client = TestClient(make_app(tmp_path), "http://127.0.0.1")
    number = client.post("/api/v1/projects", json={"name": "Milestone"}).json()["id"]
    folder = tmp_path / "projects" / str(number) / "photos"
    for n in range(4):
        pixels = np.random.default_rng(n).integers(0, 255, (240, 320, 3), np.uint8)
        Image.fromarray(pixels).save(folder / f"{n}.png")
    client.post(f"/api/v1/projects/{number}/layers/masks/run")
    work(tmp_path, once=True)
    return client, tmp_path, number


def states(client: TestClient, number: int) -> dict[str, tuple[str, list[str]]]:
    return {x["layer"]: (x["state"], x["runs"]) for x in client.get(f"/api/v1/projects/{number}/layers").json()}


def test_photos_left_out_mark_what_was_made_of_them_at_once(project: tuple[TestClient, Path, int]) -> None:
    client, data, number = project
    assert states(client, number)["photos"] == ("ready", ["photos"])
    assert states(client, number)["masks"] == ("ready", ["masks"])
    assert states(client, number)["cameras"] == ("empty", ["cameras"])
    client.patch(f"/api/v1/projects/{number}/photos", json={"paths": ["1.png"], "kept": False})
    after = states(client, number)
    assert after["photos"][0] == after["masks"][0] == "out of date"
    assert after["cameras"] == ("empty", ["photos", "masks", "cameras"])
    client.patch(f"/api/v1/projects/{number}/photos", json={"paths": ["1.png"], "kept": True})
    assert states(client, number)["masks"][0] == "ready"
    # a photo more is seen too
    folder = data / "projects" / str(number) / "photos"
    Image.fromarray(np.full((240, 320, 3), 9, np.uint8)).save(folder / "4.png")
    assert states(client, number)["masks"][0] == "out of date"


def test_what_judging_left_out_stays_left_out_when_a_layer_is_run(
    project: tuple[TestClient, Path, int], monkeypatch: pytest.MonkeyPatch
) -> None:
    client, data, number = project
    for module in ("worker", "services.layers"):
        monkeypatch.setattr(f"vast_quarry.server.{module}.proposed_out", lambda folders, left_out: ["2.png"])
    client.post(f"/api/v1/projects/{number}/layers/masks/run", params={"everything": True})
    work(data, once=True)
    assert states(client, number)["masks"] == ("ready", ["masks"])
    versions = client.get(f"/api/v1/projects/{number}/layers").json()[0]["versions"]
    assert versions[-1]["settings"]["judged_out"] == ["2.png"]
    client.post(f"/api/v1/projects/{number}/layers/masks/run")
    work(data, once=True)
    assert len(client.get(f"/api/v1/projects/{number}/layers").json()[0]["versions"]) == len(versions)


def test_a_job_tells_its_step_and_how_far_the_whole_is(project: tuple[TestClient, Path, int]) -> None:
    client, _, number = project
    job = next(j for j in client.get("/api/v1/jobs").json() if j["project_id"] == number)
    assert job["steps"] == 2
    assert 0 <= job["share"] <= 1
