"""Points chosen and cleared away over the API: what is told for each point drawn, undo, another page, and a version of it."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from numpy.typing import NDArray
from tests.conftest import moved

from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.server.app import make_app
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.services.world import drawn_points
from vast_quarry.server.worker import work

BASE = "/api/v1/projects/1/points"
BUDGET = 2000


@pytest.fixture(scope="module")
def data(built_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    return moved(built_data, tmp_path_factory.mktemp("clearing"))


@pytest.fixture(scope="module")
def client(data: Path) -> TestClient:
    return TestClient(make_app(data), "http://127.0.0.1")


@pytest.fixture(scope="module")
def cloud(data: Path) -> Cloud:
    store = folders_of(data, 1).store
    return load_cloud(store.folder(store.versions("points")[0]))


@pytest.fixture(autouse=True)
def afresh(client: TestClient) -> None:
    client.delete(f"{BASE}/draft")


def bits(client: TestClient, what: str, **ask: Any) -> tuple[int, int, NDArray[np.bool_]]:
    """How many, of how many, and which of those drawn."""
    query = {"budget": BUDGET, **ask.pop("params", {})}
    answer = client.post(f"{BASE}/{what}", params=query, **ask) if ask else client.get(f"{BASE}/{what}", params=query)
    assert answer.status_code == 200, answer.json()
    count, of = np.frombuffer(answer.content[:8], "<u4").tolist()
    told = np.unpackbits(np.frombuffer(answer.content[8:], np.uint8), bitorder="little")[: min(BUDGET, of)]
    return count, of, told.astype(bool)


def above(height: float) -> dict:
    return {"kind": "plane", "point": [0, 0, height], "normal": [0, 0, 1], "within": 0, "side": "above"}


def step(client: TestClient, which: str) -> Any:
    """Take a step back or forth, and look at the draft."""
    assert client.post(f"{BASE[: -len('points')]}history/points/{which}").status_code == 200
    return client.get(f"{BASE}/draft")


def test_a_choice_is_worked_out_on_all_points_and_told_for_those_drawn(client: TestClient, cloud: Cloud) -> None:
    height = float(np.quantile(cloud.points[:, 2], 0.8))
    mine = cloud.points[:, 2] > height
    count, of, told = bits(client, "select", json={"terms": [above(height)]})
    assert (count, of) == (mine.sum(), len(mine))
    assert of > 5 * BUDGET, "a cloud that is drawn whole shows nothing"
    assert (told == mine[drawn_points(of, BUDGET)]).all()
    few = {"kind": "views", "most": 3, "how": "take"}
    assert bits(client, "select", json={"terms": [above(height), few]})[0] == (mine & (cloud.views > 3)).sum()
    assert bits(client, "select", json={"terms": []})[0] == 0


def test_delete_undo_redo_and_another_page(client: TestClient, cloud: Cloud) -> None:
    # between two points: one that lies in the plane itself is on neither side
    heights = np.unique(cloud.points[:, 2])
    low, high = (float(heights[k : k + 2].mean()) for k in (3 * len(heights) // 10, 8 * len(heights) // 10))
    over, under = cloud.points[:, 2] > high, cloud.points[:, 2] < low
    first = client.post(f"{BASE}/draft", json={"terms": [above(high)]}).json()
    assert (first["done"], first["gone"], first["left"]) == (1, over.sum(), (~over).sum())
    # what is gone is not chosen again
    assert bits(client, "select", json={"terms": [above(low)]})[0] == (~under & ~over).sum()
    second = client.post(f"{BASE}/draft", json={"terms": [above(low)], "keep": True}).json()
    assert second["gone"] == (over | under).sum()
    assert (bits(client, "gone")[2] == (over | under)[drawn_points(len(over), BUDGET)]).all()
    assert step(client, "undo").json()["gone"] == over.sum()
    assert client.get(f"{BASE}/draft").json()["redo"] == 1
    assert step(client, "redo").json() == second
    # an edit after an undo takes the place of what could have been redone
    step(client, "undo")
    third = client.post(f"{BASE}/draft", json={"terms": [{"kind": "views", "most": 2}]}).json()
    assert (third["done"], third["redo"]) == (2, 0)
    nothing = client.post(f"{BASE}/draft", json={"terms": [{"kind": "views", "most": 100}]})
    assert "Nothing would be left" in nothing.json()["detail"]
    assert client.get(f"{BASE}/draft").json() == third
    assert client.delete(f"{BASE}/draft").json()["left"] == len(cloud.points)
    for _ in range(2):
        assert step(client, "undo").json()["done"] == 0


def test_what_is_found_is_a_way_of_choosing(client: TestClient, cloud: Cloud) -> None:
    top = cloud.points[np.argmax(cloud.points[:, 2])].tolist()
    part = client.post(f"{BASE}/find", json={"what": "part", "at": top}).json()
    assert bits(client, "select", json={"terms": [part]})[0] > 0.9 * len(cloud.points)
    color = client.post(f"{BASE}/find", json={"what": "color", "at": top, "within": 9}).json()
    assert (color["kind"], color["within"]) == ("color", 9)
    assert 0 < bits(client, "select", json={"terms": [color]})[0] < len(cloud.points)
    strays = client.post(f"{BASE}/find", json={"what": "strays"}).json()
    assert bits(client, "select", json={"terms": [strays]})[0] < 0.05 * len(cloud.points)
    assert "Nothing is chosen" in client.post(f"{BASE}/find", json={"what": "plane"}).json()["detail"]
    # the top of the front: a plane that stands upright
    front = cloud.points[cloud.normals[:, 1] < -0.95]
    assert len(front) > 300
    window = {"kind": "plane", "normal": [0, 1, 0], "within": 0, "side": "below"}
    window["point"] = [0, float(np.median(front[:, 1])) + 3 * float(np.median(cloud.gsd)), 0]
    plane = client.post(f"{BASE}/find", json={"what": "plane", "terms": [window]}).json()
    assert abs(plane["normal"][1]) > 0.95
    assert client.post(f"{BASE}/find", json={"what": "part"}).json()["detail"].startswith("It is not said where")


def test_questions_are_no_changes_to_other_pages(client: TestClient) -> None:
    revisions = client.app.state.revisions.setdefault("1", {})  # type: ignore[attr-defined]
    before = dict(revisions)
    bits(client, "select", json={"terms": [above(0.0)]})
    client.post(f"{BASE}/find", json={"what": "strays"})
    assert revisions == before
    client.post(f"{BASE}/draft", json={"terms": [above(0.4)]})
    assert revisions["points"] == before.get("points", 0) + 1


@pytest.mark.parametrize(
    "terms",
    [
        [{"kind": "outline", "outline": [[0, 0], [1, 0]], "matrix": [0] * 16}],
        [{"kind": "outline", "outline": [[0, 0], [1, 0], [1, 1]], "matrix": [0] * 15}],
        [{"kind": "cells", "low": [0, 0, 0], "side": 1, "cells": "AAAA"}],
        [{"kind": "everything"}],
        [above(0.0)] * 401,
    ],
)
def test_choices_that_cannot_be_say_so_and_leave_the_draft(client: TestClient, terms: list[dict]) -> None:
    for where in ("select", "draft"):
        answer = client.post(f"{BASE}/{where}", json={"terms": terms})
        assert 400 <= answer.status_code < 500
    assert client.get(f"{BASE}/draft").json()["done"] == 0
    wrong = client.post(f"{BASE}/select", params={"on": 7}, json={"terms": []})
    assert "version 7 of Points" in wrong.json()["detail"]


def test_kept_it_is_a_version_that_later_ones_follow(client: TestClient, data: Path, cloud: Cloud) -> None:
    assert "no edits to keep" in client.post(f"{BASE}/keep").json()["detail"]
    height = float(np.quantile(cloud.points[:, 2], 0.7))
    client.post(f"{BASE}/draft", json={"terms": [above(height)]})
    # settings changed meanwhile are for a later run, and not what was edited
    client.put("/api/v1/projects/1/layers/points/settings", json={"sources": 4})
    job = client.post(f"{BASE}/keep").json()
    work(data, once=True)
    assert next(j for j in client.get("/api/v1/jobs").json() if j["id"] == job["id"])["state"] == "done"
    now = client.get(f"{BASE}/draft").json()
    assert (now["on"], now["done"], now["earlier"]) == (2, 0, 1)
    layer = next(x for x in client.get("/api/v1/projects/1/layers").json() if x["layer"] == "points")
    version = layer["versions"][-1]
    assert version["settings"]["sources"] == 5
    assert version["settings"]["cleared"] == 1  # told as how many: regions may be large
    assert version["figures"]["cleared"] == (cloud.points[:, 2] > height).sum()
    assert {x["layer"]: x["state"] for x in client.get("/api/v1/projects/1/layers").json()}["surface"] == "out of date"
    # a draft upon it takes the rest away from what is left
    more = client.post(f"{BASE}/draft", json={"terms": [{"kind": "views", "most": 2}]}).json()
    assert more["on"] == 2
    client.delete("/api/v1/projects/1/layers/points/settings/sources")
    client.delete(f"{BASE}/cleared")
    work(data, once=True)
    back = client.get(f"{BASE}/draft").json()
    assert (back["on"], back["left"], back["earlier"]) == (1, len(cloud.points), 0)
    # a draft whose version is gone is given up by itself
    client.post("/api/v1/projects/1/layers/points/use", json={"number": 2})
    client.post(f"{BASE}/draft", json={"terms": [{"kind": "views", "most": 2}]})
    client.post("/api/v1/projects/1/layers/points/use", json={"number": 1})
    assert client.get(f"{BASE}/draft").json()["on"] == 2
    shutil.rmtree(data / "projects/1/versions/points/2")
    assert client.get(f"{BASE}/draft").json()["on"] == 1


def test_a_brush_takes_what_is_in_front_only(client: TestClient, cloud: Cloud) -> None:
    """Looked at from the front, a shape over all of the subject: nothing of its back, whatever the terms are sent for later."""
    matrix = [[0.5, 0, 0, 0], [0, 0, 0.5, 0], [0, 0, 0, 0], [0, 1, 0, 3.0]]  # from three units in front along +y
    flat = [float(v) for row in matrix for v in row]
    whole = {"kind": "outline", "outline": [[-1, -1], [1, -1], [1, 1], [-1, 1]], "matrix": flat}
    through, _, _ = bits(client, "select", json={"terms": [whole]})
    assert through == len(cloud.points)
    term = client.post(f"{BASE}/find", json={"what": "front", "under": whole}).json()
    count, _, _ = bits(client, "select", json={"terms": [term]})
    facing = cloud.normals[:, 1] < -0.5
    back = cloud.normals[:, 1] > 0.5
    assert facing.sum() * 0.8 < count < through - 0.95 * back.sum()
    assert client.post(f"{BASE}/find", json={"what": "front"}).status_code == 422


def test_more_points_are_given_where_one_looks(client: TestClient, cloud: Cloud) -> None:
    """From near all that is in view, in the form of every cloud; from far off a part."""
    counts = []
    for far in (3.0, 4000.0):
        matrix = [[2, 0, 0, 0], [0, 0, 2, 0], [0, 0, 0, 0], [0, 1, 0, far]]
        look = {"matrix": [float(v) for row in matrix for v in row], "height": 4000}
        answer = client.post("/api/v1/projects/1/layers/points/nearby", json=look)
        assert answer.status_code == 200
        n = int(np.frombuffer(answer.content[:4], "<u4")[0])
        assert len(answer.content) == 4 + 29 * n
        rows = np.frombuffer(answer.content[-2 * n :], "<i2")
        assert set(rows.tolist()) <= set(cloud.photo.tolist())
        at = np.frombuffer(answer.content[4 : 4 + 12 * n], "<f4").reshape(n, 3)
        assert not set(map(tuple, at.tolist())) - set(map(tuple, cloud.points.astype(np.float32).tolist()))
        counts.append(n)
    assert counts[0] == len(cloud.points)
    assert 0 < counts[1] < 0.2 * counts[0]
