"""Projects as wholes: duplicated without taking room, and what the first page says of them."""

from __future__ import annotations

import json
import threading
from pathlib import Path

import numpy as np
import pytest
from fastapi.testclient import TestClient

from vast_quarry.core.formats.atomic import write_arrays
from vast_quarry.server.services import folders as service


def test_a_duplicate_has_all_and_shares_nothing_that_changes(client: TestClient, data: Path) -> None:
    (first,) = client.get("/api/v1/projects").json()
    one, photo = data / "projects" / str(first["id"]), "milestone_001.jpg"
    (one / "cache" / "of no use").write_text("made again")
    (one / "versions" / "points" / "half.partial").mkdir()
    client.put(f"/api/v1/projects/{first['id']}/layers/points/settings", json={"sources": 4})
    second = client.post(f"/api/v1/projects/{first['id']}/duplicate", json={"name": "To try"}).json()
    assert second["id"] > first["id"]
    assert (second["name"], second["photos"], second["best_layer"]) == ("To try", 24, "texture")
    two = data / "projects" / str(second["id"])
    # photos and versions take no room of their own
    for same in (f"photos/{photo}", "versions/texture/1/texture.jpg", "versions/cameras/1/version.json"):
        assert (two / same).stat().st_ino == (one / same).stat().st_ino, same
    assert not (two / "cache" / "of no use").exists()
    assert not (two / "versions" / "points" / "half.partial").exists()
    # what is changed in one does not change in the other
    assert (two / "versions" / "in-use.json").stat().st_ino != (one / "versions" / "in-use.json").stat().st_ino
    layers = {x["layer"]: x for x in client.get(f"/api/v1/projects/{second['id']}/layers").json()}
    assert {s["name"]: s["value"] for s in layers["points"]["settings"]}["sources"] == 4
    client.put(f"/api/v1/projects/{second['id']}/layers/points/settings", json={"sources": 6})
    was = {x["layer"]: x for x in client.get(f"/api/v1/projects/{first['id']}/layers").json()}
    assert {s["name"]: s["value"] for s in was["points"]["settings"]}["sources"] == 4
    assert client.delete(f"/api/v1/projects/{first['id']}").status_code == 204
    assert client.get(f"/api/v1/projects/{second['id']}/layers/texture/atlas").status_code == 200
    assert json.loads((two / "versions" / "in-use.json").read_text())["texture"] == 1


def test_a_duplicate_that_finds_no_room_leaves_nothing(
    client: TestClient, data: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (first,) = client.get("/api/v1/projects").json()

    def full(source: Path, target: Path) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(service, "link_or_copy", full)
    answer = client.post(f"/api/v1/projects/{first['id']}/duplicate", json={})
    assert answer.status_code == 507
    assert "disk is full" in answer.json()["detail"]
    assert [p["id"] for p in client.get("/api/v1/projects").json()] == [first["id"]]
    assert [p.name for p in (data / "projects").iterdir()] == [str(first["id"])]


def test_a_project_with_a_video_only_says_so(client: TestClient, data: Path) -> None:
    made = client.post("/api/v1/projects", json={"name": "Filmed"}).json()
    assert made["videos"] == 0
    folder = data / "projects" / str(made["id"]) / "videos"
    folder.mkdir()
    (folder / "walk.mp4").write_bytes(b"film")
    (folder / "notes.txt").write_bytes(b"no film")
    assert client.get(f"/api/v1/projects/{made['id']}").json()["videos"] == 1


def test_photos_that_found_each_other_are_told_while_they_are_matched(client: TestClient, data: Path) -> None:
    project = client.post("/api/v1/projects", json={"name": "Growing"}).json()["id"]
    where = f"/api/v1/projects/{project}/layers/cameras/live"
    assert client.get(where).json() == {"cameras": [], "points": [], "read": [], "matched": []}
    folder = data / "projects" / str(project) / "versions" / "cameras" / "abc.partial"
    for part in ("features", "matches"):
        (folder / part).mkdir(parents=True)
    for k in (0, 1, 5):
        write_arrays(folder / "features" / f"{k:05d}.npz", xy=np.zeros((3, 2), np.float32))
    pairs = {"1": np.zeros((40, 2), np.int32), "5": np.zeros((12, 2), np.int32)}
    write_arrays(folder / "matches" / "00000-00001-2.npz", **pairs)
    live = client.get(where).json()
    assert live["read"] == [0, 1, 5]
    assert live["matched"] == [[0, 1, 40], [0, 5, 12]]
    # once cameras are placed, these are shown instead
    write_arrays(
        folder / "live.npz", placed=np.array([True, False]), rotations=np.stack([np.eye(3)] * 2), centers=np.zeros((2, 3)),
        focal=np.ones(2), sizes=np.array([(4, 3)] * 2), points=np.ones((5, 3)), paths=np.array(["a.jpg", "b.jpg"]),
    )  # fmt: skip
    live = client.get(where).json()
    assert [c["photo"] for c in live["cameras"]] == ["a.jpg"]
    assert live["matched"] == []


def test_a_project_is_removed_while_something_is_still_written_into_it(tmp_path: Path) -> None:
    """As thumbnails are that were asked for just before: each file put there anew is removed too."""
    folders = service.Folders(tmp_path / "1")
    folders.make()
    over = threading.Event()

    def writing() -> None:
        for k in range(400):
            if over.is_set():
                return
            folders.cache.mkdir(parents=True, exist_ok=True)
            (folders.cache / f"{k}.jpg").write_bytes(b"x" * 2000)

    writer = threading.Thread(target=writing)
    writer.start()
    try:
        service.remove(folders)
    finally:
        over.set()
        writer.join()
