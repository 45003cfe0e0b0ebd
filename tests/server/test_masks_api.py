"""Masks over HTTP: mending with undo that outlives the server, pictures, export, and the two layers that follow."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from vast_quarry.server.app import make_app
from vast_quarry.server.worker import work

CORNER = [[0.0, 0.0], [0.5, 0.0], [0.5, 0.5], [0.0, 0.5]]


def client_of(data: Path) -> TestClient:
    return TestClient(make_app(data), "http://127.0.0.1")


@pytest.fixture
def data(tmp_path: Path) -> Path:
    """A project of three photos of a red square before blue, the third one transparent outside of it."""
    client = client_of(tmp_path / "data")
    assert client.post("/api/v1/projects", json={"name": "Masks"}).json()["id"] == 1
    files = []
    for k in range(3):
        rgb = np.full((120, 160, 3), (40, 90, 200), np.uint8)
        rgb[30:90, 50 + 5 * k : 110 + 5 * k] = (180, 60, 40)
        image = Image.fromarray(rgb)
        if k == 2:
            image.putalpha(Image.fromarray(((rgb[..., 0] > 100) * 255).astype(np.uint8)))
        out = io.BytesIO()
        image.save(out, "PNG")
        files.append(("files", (f"{k}.png", out.getvalue())))
    assert client.post("/api/v1/projects/1/photos", files=files).status_code == 201
    return tmp_path / "data"


def run(client: TestClient, data: Path, layer: str) -> None:
    job = client.post(f"/api/v1/projects/1/layers/{layer}/run").json()["id"]
    work(data, once=True)
    done = next(j for j in client.get("/api/v1/jobs").json() if j["id"] == job)
    assert done["state"] == "done", done["message"]


def hatched(client: TestClient, name: str) -> np.ndarray:
    """Where the picture shows that something is left out."""
    answer = client.get("/api/v1/projects/1/masks/picture", params={"path": name, "side": 160})
    assert answer.status_code == 200
    return np.asarray(Image.open(io.BytesIO(answer.content)))[..., 3] > 0


def test_mending_undo_redo_and_a_new_server(data: Path) -> None:
    client = client_of(data)
    run(client, data, "masks")
    rows = {r["path"]: r for r in client.get("/api/v1/projects/1/masks").json()["rows"]}
    assert rows["2.png"]["way"] == "files"
    assert rows["2.png"]["share"] == pytest.approx(3600 / 19200, abs=0.01)
    assert rows["0.png"]["share"] is None
    assert not hatched(client, "0.png").any()
    edit = {"kind": "outline", "points": CORNER, "add": False}
    told = client.post("/api/v1/projects/1/masks/edits", json={"paths": ["0.png", "2.png"], "edit": edit}).json()
    assert (told["undo"], told["redo"], told["unsaved"]) == (1, 0, True)
    assert hatched(client, "0.png")[10:55, 10:75].all()
    assert not hatched(client, "0.png")[65:, 85:].any()
    brush = {"kind": "brush", "points": [[0.9, 0.9]], "radius": 0.05, "add": False}
    client.post("/api/v1/projects/1/masks/edits", json={"paths": ["0.png"], "edit": brush})
    assert hatched(client, "0.png")[108, 144]
    assert client.post("/api/v1/projects/1/history/masks/undo").json()["redo"] == 1
    assert not hatched(client, "0.png")[108, 144]
    # another server, as after a reload
    client = client_of(data)
    assert client.post("/api/v1/projects/1/history/masks/redo").json()["undo"] == 2
    assert hatched(client, "0.png")[108, 144]
    client.post("/api/v1/projects/1/history/masks/undo")
    run(client, data, "masks")
    told = client.get("/api/v1/projects/1/masks").json()
    assert not told["unsaved"]
    assert {r["path"]: r["share"] for r in told["rows"]}["0.png"] == pytest.approx(0.75, abs=0.01)
    archive = zipfile.ZipFile(io.BytesIO(client.get("/api/v1/projects/1/masks/export").content))
    assert sorted(archive.namelist()) == ["0.png", "2.png"]
    kept = np.asarray(Image.open(io.BytesIO(archive.read("0.png"))))
    assert kept.dtype == np.uint8
    assert set(np.unique(kept)) == {0, 255}
    assert kept[10:55, 10:75].max() == 0
    assert kept[65:, 85:].min() == 255
    # what was found is the ground that edits are made on: taking all of them back gives it again
    while client.post("/api/v1/projects/1/history/masks/undo").json()["undo"]:
        pass
    assert not hatched(client, "0.png").any()


def test_what_is_no_edit_or_no_photo_is_refused(data: Path) -> None:
    client = client_of(data)
    good = {"kind": "invert", "amount": 0}
    assert client.post("/api/v1/projects/1/masks/edits", json={"paths": ["9.png"], "edit": good}).status_code == 404
    assert client.post("/api/v1/projects/1/masks/edits", json={"paths": ["../x"], "edit": good}).status_code in (
        404,
        422,
    )
    assert client.post("/api/v1/projects/1/masks/edits", json={"paths": [], "edit": good}).status_code == 422
    answer = client.post("/api/v1/projects/1/masks/edits", json={"paths": ["0.png"], "edit": {"kind": "melt"}})
    assert answer.status_code == 422
    assert client.get("/api/v1/projects/1/masks/export").status_code == 404
    assert client.get("/api/v1/projects/1/masks").json()["undo"] == 0


def test_edits_that_came_as_a_file_can_be_taken_back_and_the_file_is_what_stands(data: Path) -> None:
    def grown(paths: list[str], by: int) -> dict:
        return {"paths": paths, "edit": {"kind": "margin", "amount": by}}

    file = data / "projects" / "1" / "mask-edits.json"
    # of an archive, or as they were kept once: what was undone last is done again first
    steps = [grown(["0.png", "1.png"], 1), grown(["1.png"], 2)]
    file.write_text(json.dumps({"steps": steps, "undone": [grown(["2.png"], 4), grown(["2.png"], 3)], "number": 9}))
    client = client_of(data)
    run(client, data, "photos")
    now = client.get("/api/v1/projects/1/history/masks").json()
    assert (now["undo"], now["redo"], now["undo_says"]["text"]) == (2, 2, "A mask mended")
    before = client.get("/api/v1/projects/1/masks").json()
    assert [r["edits"] for r in before["rows"]] == [1, 2, 0]
    client.post("/api/v1/projects/1/history/masks/redo")
    assert json.loads(file.read_text()) == {"steps": [*steps, grown(["2.png"], 3)]}
    client.post("/api/v1/projects/1/history/masks/undo")
    client.post("/api/v1/projects/1/history/masks/undo")
    assert json.loads(file.read_text()) == {"steps": steps[:1]}
    assert client.get("/api/v1/projects/1/masks").json()["number"] != before["number"]
    # what is done anew forgets what was taken back, of this layer only
    assert client.patch("/api/v1/projects/1/photos", json={"paths": ["2.png"], "kept": False}).status_code == 200
    client.post("/api/v1/projects/1/history/photos/undo")
    assert client.post("/api/v1/projects/1/masks/edits", json=grown(["0.png"], 5)).status_code == 201
    again = client_of(data)
    assert again.get("/api/v1/projects/1/history/masks").json()["redo"] == 0
    assert again.get("/api/v1/projects/1/history/photos").json()["redo"] == 1
