"""Depth maps to look at: what is read out is where the cloud lies, and what has no depth says why."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from tests.conftest import moved

from vast_quarry.core.camera import project
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.server.app import make_app
from vast_quarry.server.services import depths
from vast_quarry.server.services.folders import folders_of

BASE = "/api/v1/projects/1/photos"


@pytest.fixture(scope="module")
def data(built_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    return moved(built_data, tmp_path_factory.mktemp("depths"))


@pytest.fixture(scope="module")
def client(data: Path) -> TestClient:
    return TestClient(make_app(data), "http://127.0.0.1")


def test_what_is_read_out_is_where_the_cloud_lies(client: TestClient, data: Path) -> None:
    """In the photo as it was taken, lens and all: points that are the first to be met at their pixel."""
    store = folders_of(data, 1).store
    folder = store.folder(store.versions("points")[0])
    solution, cloud = load_solution(folder), load_cloud(folder)
    row = int(solution.aligned[3])
    lens = solution.lens(row)
    at, z = project(lens, solution.rotations[row], solution.centers[row], cloud.points)
    facing = ((solution.centers[row] - cloud.points) * cloud.normals).sum(1) > 0.5 * z
    cell = np.floor(at / 4).astype(int) @ [10_000, 1]
    order = np.lexsort((z, cell))
    first = order[np.unique(cell[order], return_index=True)[1]]
    shown = first[facing[first] & (cloud.views[first] >= 4) & ((at[first] > 5) & (at[first] < [475, 355])).all(1)]
    off = []
    for k in np.random.default_rng(0).choice(shown, 60, replace=False):
        x, y = at[k] / [lens.width - 1, lens.height - 1]
        told = client.get(f"{BASE}/depth-at", params={"row": row, "x": x, "y": y}).json()
        if told["depth"] is not None:
            off.append(abs(told["depth"] / z[k] - 1))
            assert told["gsd"] == pytest.approx(told["depth"] / lens.fx)
    assert len(off) > 50
    assert np.median(off) < 0.004


def test_the_relief_covers_the_subject_and_nothing_else_far_off(client: TestClient) -> None:
    picture = np.asarray(Image.open(io.BytesIO(client.get(f"{BASE}/depth", params={"row": 3}).content)))
    there = picture[..., 3] > 0
    assert 0.05 < there.mean() < 0.5
    assert not there[:, :40].any()
    # it is lit: light differs from spot to spot much more than by depth alone
    light = picture[..., :3][there].sum(1).astype(float)
    assert light.std() > 0.05 * light.mean()


def test_only_what_photos_agreed_about_is_drawn_in_colours(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    picture = np.asarray(Image.open(io.BytesIO(client.get(f"{BASE}/depth", params={"row": 3}).content)))
    hatched = (picture[..., 3] > 0) & (picture[..., 3] < 255)
    assert hatched.any()
    assert (picture[hatched][:, :3] == picture[hatched][0, :3]).all()
    ends = client.get(f"{BASE}/depth-range", params={"row": 3}).json()
    assert 0 < ends["near"] < ends["far"] < 3 * ends["near"]
    # a map that nobody agreed to has no scale
    shape = (6, 8)
    off, depth = np.zeros(shape, bool), np.full(shape, 2.0, np.float32)
    parts = dict.fromkeys(("outside", "masked", "dark", "flat", "trusted"), off)
    monkeypatch.setattr(depths, "seen", lambda *_: depths.Seen(depth, depth, around=depth, focal=1.0, **parts))
    assert client.get(f"{BASE}/depth-range", params={"row": 3}).json() == {"near": None, "far": None}
    picture = np.asarray(Image.open(io.BytesIO(client.get(f"{BASE}/depth", params={"row": 3}).content)))
    assert set(np.unique(picture[..., 3])) == {0, depths.FAINT}


def test_what_has_no_depth_says_why(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    def why(x: float, y: float) -> str:
        told = client.get(f"{BASE}/depth-at", params={"row": 3, "x": x, "y": y}).json()
        assert told["depth"] is None
        return str(told["why"]["text"])

    assert "too even" in why(0.02, 0.02)  # the sky
    off, on = np.zeros((10, 10), bool), np.ones((10, 10), bool)
    none = np.zeros((10, 10), np.float32)
    for name, says in (
        ("masked", "mask"),
        ("outside", "keep box"),
        ("dark", "too dark"),
        ("flat", "too even"),
        ("", "too few"),
    ):
        parts = {n: on if n == name else off for n in ("outside", "masked", "dark", "flat")}
        parts |= {"around": none + 1.25, "trusted": off}
        monkeypatch.setattr(depths, "seen", lambda *_, p=parts: depths.Seen(none, none, focal=1.0, **p))
        assert says in why(0.5, 0.5)
        told = client.get(f"{BASE}/depth-at", params={"row": 3, "x": 0.5, "y": 0.5}).json()
        # what was left out on purpose has no depth to guess
        assert told["around"] == (None if name in ("masked", "outside") else 1.25)
    monkeypatch.undo()
    sky = client.get(f"{BASE}/depth-at", params={"row": 3, "x": 0.02, "y": 0.02}).json()
    assert sky["around"] is None
    missing = client.get(f"{BASE}/depth-at", params={"row": 999, "x": 0.5, "y": 0.5})
    assert missing.status_code == 404
    assert client.get(f"{BASE}/depth-at", params={"row": 3, "x": 1.5, "y": 0.5}).status_code == 422
