"""The server: contract, projects, photos, jobs by a worker that is killed and comes back, drafts, parcels."""

from __future__ import annotations

import io
import json
import os
import shutil
import signal
import subprocess
import sys
import threading
import time
import zipfile
from pathlib import Path
from typing import Any

import laspy
import numpy as np
import pygltflib
import pytest
import trimesh
from fastapi.testclient import TestClient
from PIL import Image
from scipy.spatial import cKDTree
from sqlmodel import Session
from tests.conftest import SMALL, RigSet, moved

from vast_quarry.core.finish.levels import SMALLEST_SIDE
from vast_quarry.core.formats.ply import read_ply
from vast_quarry.pipeline.atlas_maps import atlas_map
from vast_quarry.pipeline.sentence import sentence
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.server.app import make_app
from vast_quarry.server.models import Job
from vast_quarry.server.services import drafts
from vast_quarry.server.services.jobs import LOST
from vast_quarry.server.worker import work


@pytest.fixture(scope="module")
def data(built_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    return moved(built_data, tmp_path_factory.mktemp("data"))


@pytest.fixture(scope="module")
def client(data: Path) -> TestClient:
    return TestClient(make_app(data), "http://127.0.0.1")


def picture(seed: int = 0) -> bytes:
    out = io.BytesIO()
    Image.fromarray(np.random.default_rng(seed).integers(0, 255, (90, 120, 3), np.uint8)).save(out, "JPEG")
    return out.getvalue()


@pytest.fixture(scope="module")
def built(client: TestClient) -> int:
    """A project run through to Texture."""
    (project,) = [p["id"] for p in client.get("/api/v1/projects").json() if p["name"] == "Carved milestone"]
    return int(project)


def test_contract_is_typed_and_current(client: TestClient) -> None:
    document = client.get("/api/v1/openapi.json").json()
    assert client.get("/api/v1/health").json()["ok"]
    for path, methods in document["paths"].items():
        for method, what in methods.items():
            answers = [a for code, a in what["responses"].items() if code.startswith("2")]
            assert answers, f"{method} {path} says nothing of its answer"
    script = Path(__file__).parents[2] / "scripts" / "openapi.py"
    assert subprocess.run([sys.executable, str(script), "--check"], capture_output=True).returncode == 0


def test_a_job_says_what_it_made_and_where(client: TestClient, built: int) -> None:
    job = next(j for j in client.get("/api/v1/jobs").json() if j["kind"] == "run" and j["project_id"] == built)
    text = job["message"]["text"]
    assert text.startswith("Done. ")
    assert text.endswith("Made: Photos 1, Masks 1, Cameras 1, Points 1, Surface 1 and Texture 1.")
    assert (job["project"], job["until"]) == ("Carved milestone", "texture")
    assert sentence(job["message"]).in_language("de").startswith("Fertig. ")


def test_figures_of_versions_are_those_of_their_layers(client: TestClient, data: Path, built: int) -> None:
    listed = {x["layer"]: x["versions"] for x in client.get(f"/api/v1/projects/{built}/layers").json()}
    assert listed["points"][0]["layer"] == "points"
    assert set(listed["surface"][0]["figures"]) >= {"triangles", "open_edges", "size"}
    document = client.get("/api/v1/openapi.json").json()["components"]["schemas"]
    assert document["LayerOut"]["properties"]["versions"]["items"]["discriminator"]["propertyName"] == "layer"
    assert "triangles" in document["SurfaceFigures"]["properties"]
    # a version of another program whose figures are something else is still listed, without them
    file = data / f"projects/{built}/versions/masks/1/version.json"
    before = file.read_text()
    try:
        file.write_text(before.replace('"masked":', '"masked": "many", "was":'))
        masks = next(x for x in client.get(f"/api/v1/projects/{built}/layers").json() if x["layer"] == "masks")
        assert masks["versions"][0]["figures"] == {}
    finally:
        file.write_text(before)


def test_projects_come_change_and_go(client: TestClient, data: Path) -> None:
    made = client.post("/api/v1/projects", json={"name": "Well-head"}).json()
    assert made["grade"] == "dressed"
    changed = client.patch(f"/api/v1/projects/{made['id']}", json={"name": "The well-head", "grade": "rough"}).json()
    assert (changed["name"], changed["grade"]) == ("The well-head", "rough")
    assert client.patch(f"/api/v1/projects/{made['id']}", json={"grade": "shiny"}).status_code == 422
    folder = data / "projects" / str(made["id"])
    assert folder.is_dir()
    assert client.delete(f"/api/v1/projects/{made['id']}").status_code == 204
    assert not folder.exists()
    assert "no longer there" in client.get(f"/api/v1/projects/{made['id']}").json()["detail"]


def test_uploads_take_pictures_and_name_the_rest(client: TestClient) -> None:
    project = client.post("/api/v1/projects", json={"name": "Finial"}).json()["id"]
    files = [
        ("files", ("a.jpg", picture(1))), ("files", ("a.jpg", picture(2))), ("files", ("../../evil.jpg", picture(3))),
        ("files", ("letter.txt", b"dear")), ("files", ("broken.jpg", b"no picture")),
    ]  # fmt: skip
    answer = client.post(f"/api/v1/projects/{project}/photos", files=files).json()
    assert sorted(answer["taken"]) == ["a (1).jpg", "a.jpg", "broken.jpg", "evil.jpg"]
    assert answer["refused"][0]["name"] == "letter.txt"
    photos = {p["path"]: p for p in client.get(f"/api/v1/projects/{project}/photos").json()}
    assert "not a picture" in photos["broken.jpg"]["problem"]["text"]
    assert photos["a.jpg"]["focal_source"] == "guessed"
    thumb = client.get(f"/api/v1/projects/{project}/photos/thumb", params={"path": "a.jpg", "side": 64})
    assert max(Image.open(io.BytesIO(thumb.content)).size) == 64
    assert (
        client.get(
            f"/api/v1/projects/{project}/photos/full", params={"path": "../../../vast-quarry.sqlite"}
        ).status_code
        == 404
    )
    left = client.patch(f"/api/v1/projects/{project}/photos", json={"paths": ["a.jpg"], "kept": False}).json()
    assert left == ["a.jpg"]
    assert client.patch(f"/api/v1/projects/{project}/photos", json={"paths": ["a.jpg"], "kept": True}).json() == []


def test_runs_that_cannot_be(client: TestClient) -> None:
    project = client.post("/api/v1/projects", json={"name": "Empty"}).json()["id"]
    assert "no photos" in client.post(f"/api/v1/projects/{project}/layers/texture/run").json()["detail"]
    assert "no layer" in client.post(f"/api/v1/projects/{project}/layers/magic/run").json()["detail"]
    assert "Run it first" in client.get(f"/api/v1/projects/{project}/layers/cameras/scene").json()["detail"]
    bad = client.put(f"/api/v1/projects/{project}/layers/surface/settings", json={"faces": -4})
    assert "faces of surface" in bad.json()["detail"]
    assert (
        "no folder"
        in client.post(f"/api/v1/projects/{project}/photos/from-path", json={"path": "/no/where"}).json()["detail"]
    )


def test_layers_tell_their_state_and_forms(client: TestClient, built: int) -> None:
    layers = {x["layer"]: x for x in client.get(f"/api/v1/projects/{built}/layers").json()}
    assert layers["texture"]["state"] == "ready"
    assert layers["finish"]["state"] == "empty"
    assert "cameras 1" in layers["texture"]["takes"]
    names = {s["name"]: s for s in layers["points"]["settings"]}
    assert names["ground"]["choices"] == ["leave-out", "keep"]
    assert (names["photo_scale"]["value"], names["keep"]["value"]) == (1.0, 3)
    changed = client.put(
        f"/api/v1/projects/{built}/layers/points/settings", json={**SMALL["points"], "sources": 4}
    ).json()
    assert next(s for s in changed if s["name"] == "sources")["value"] == 4
    client.put(f"/api/v1/projects/{built}/layers/points/settings", json=SMALL["points"])


def test_the_world_is_served(client: TestClient, built: int) -> None:
    scene = client.get(f"/api/v1/projects/{built}/layers/cameras/scene").json()
    placed = [c for c in scene["cameras"] if c["center"]]
    assert len(placed) >= 20
    ties = client.get(f"/api/v1/projects/{built}/layers/cameras/ties", params={"row": placed[0]["row"]}).json()
    assert len(ties["tied"]) > 20
    for layer in ("cameras", "points"):
        cloud = client.get(f"/api/v1/projects/{built}/layers/{layer}/cloud", params={"budget": 500}).content
        n = int(np.frombuffer(cloud[:4], "<u4")[0])
        assert 100 < n <= 500
        # a sparse one has error and deviation of each point besides
        assert len(cloud) == 4 + (24 if layer == "cameras" else 29) * n
        if layer == "points":  # pixel sizes in world units, and unit normals in bytes
            gsd = np.frombuffer(cloud, "<f4", n, 4 + 16 * n)
            sigma = np.frombuffer(cloud, "<f4", n, 4 + 20 * n)
            assert 0.05 < np.median(sigma) < 1
            normals = np.frombuffer(cloud, np.int8, 3 * n, 4 + 24 * n).reshape(n, 3) / 127
            assert 1e-4 < gsd.min() <= gsd.max() < 1e-1
            np.testing.assert_allclose(np.linalg.norm(normals, axis=1), 1, atol=0.02)
    depth = client.get(f"/api/v1/projects/{built}/photos/depth", params={"row": placed[0]["row"]})
    assert Image.open(io.BytesIO(depth.content)).mode == "RGBA"
    clear = client.get(f"/api/v1/projects/{built}/masks/picture", params={"path": placed[0]["photo"]})
    assert np.asarray(Image.open(io.BytesIO(clear.content)))[..., 3].max() == 0
    glb = client.get(f"/api/v1/projects/{built}/layers/texture/mesh").content
    assert glb[:4] == b"glTF"


def test_what_holds_an_alignment_together(client: TestClient, built: int) -> None:
    where = f"/api/v1/projects/{built}/layers/cameras"
    placed = [c for c in client.get(f"{where}/scene").json()["cameras"] if c["center"]]
    pairs = client.get(f"{where}/pairs").json()
    rows = {c["row"] for c in placed}
    assert all(p["a"] < p["b"] and p["matches"] >= 14 for p in pairs)
    assert rows <= {p[k] for p in pairs for k in "ab"}
    best = max(pairs, key=lambda p: p["matches"])
    assert best["agrees"] > 0.9
    matches = client.get(f"{where}/matches", params={"a": best["b"], "b": best["a"]}).json()
    assert 20 < len(matches) <= 160
    assert np.mean([m["agrees"] for m in matches]) > 0.9
    assert client.get(f"{where}/matches", params={"a": 0, "b": 999}).status_code == 404
    # a tied feature of a photo: its track comes back to it, and its point to the same track
    row = placed[3]["row"]
    x, y, *_ = client.get(f"{where}/ties", params={"row": row}).json()["tied"][5]
    track = client.get(f"{where}/track-of", params={"row": row, "x": x, "y": y}).json()
    mine = next(s for s in track["seen"] if s["photo"] == placed[3]["photo"])
    assert (mine["x"], mine["y"]) == pytest.approx((x, y), abs=0.06)
    assert len(track["seen"]) >= 2
    again = client.get(f"{where}/track", params=dict(zip("xyz", track["at"]))).json()
    assert again == track
    # looked through: without distortion, as large as the photo
    photo = Image.open(io.BytesIO(client.get(f"{where}/through", params={"row": row}).content))
    assert photo.size == (480, 360)
    assert client.get(f"{where}/through", params={"row": 999}).status_code == 404


def looking_down(*outline: tuple[float, float]) -> dict:
    """An edit that deletes what lies in an outline seen from above: x and y are the screen."""
    matrix = np.eye(4)
    matrix[2] = 0
    return {"kind": "delete", "outline": outline, "matrix": matrix.ravel().tolist()}


HALF = looking_down((0, -99), (99, -99), (99, 99), (0, 99))
QUARTER = looking_down((-99, 0), (99, 0), (99, 99), (-99, 99))
EVERYTHING = looking_down((-99, -99), (99, -99), (99, 99), (-99, 99))


def test_draft_undo_redo_keep(client: TestClient, data: Path, built: int) -> None:
    """Edits are done by the worker, in order; what was made before is there at once."""
    base = f"/api/v1/projects/{built}/draft"

    def edited(edit: dict) -> dict:
        sent = client.post(base, json=edit)
        assert sent.status_code == 202, sent.text
        assert sent.json()["making"]["kind"] == "edit"
        assert sent.json()["faces"] is None
        assert client.get(f"{base}/mesh").status_code == 404
        work(data, once=True)
        return client.get(base).json()

    start = client.get(base).json()
    assert (start["done"], start["making"]) == (0, None)
    assert edited(looking_down((10, 10), (11, 10), (11, 11)))["faces"] == start["faces"]
    # one that leaves nothing is told by its job, and is taken out of the draft again
    refused = edited(EVERYTHING)
    assert (refused["done"], refused["redo"]) == (1, 0)
    last = next(j for j in client.get("/api/v1/jobs").json() if j["kind"] == "edit")
    assert last["state"] == "failed"
    assert "Nothing would be left" in last["message"]["text"]
    cut = edited(HALF)
    assert 0.2 * start["faces"] < cut["faces"] < 0.8 * start["faces"]
    assert step(client, base, "undo").json()["faces"] == start["faces"]
    assert step(client, base, "redo").json()["faces"] == cut["faces"]
    shown = pygltflib.GLTF2.load_from_bytes(client.get(f"{base}/mesh").content)
    assert shown.accessors[3].count == 3 * cut["faces"]
    # files that were freed are made again when they are asked for
    assert client.post(f"/api/v1/projects/{built}/space/free", json={"what": ["cache"]}).json() > 0
    assert client.get(base).json()["faces"] is None
    assert client.post(f"{base}/make").json()["making"]["state"] == "queued"
    work(data, once=True)
    assert client.get(base).json() == cut
    assert client.post(base, json={"kind": "sing"}).status_code == 422
    assert client.post(base, json={"kind": "delete", "outline": [[0, 0]], "matrix": [1]}).status_code == 422
    # an edit made on a texture that is no longer shown is told, and not done to another
    told = client.post(base, params={"on": start["on"] + 1}, json={"kind": "decimate", "faces": 800})
    assert told.status_code == 422
    assert f"version {start['on'] + 1} of Texture" in told.json()["detail"]
    assert edited({"kind": "decimate", "faces": 800})["faces"] <= 800
    assert client.post(f"{base}/keep").status_code == 202
    work(data, once=True)
    layers = {x["layer"]: x for x in client.get(f"/api/v1/projects/{built}/layers").json()}
    assert layers["finish"]["state"] == "ready"
    assert layers["finish"]["versions"][0]["figures"]["triangles"] <= 800


def test_an_undo_while_the_edit_is_being_done_counts(
    client: TestClient, data: Path, built: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    base = f"/api/v1/projects/{built}/draft"
    client.delete(base)
    start = client.get(base).json()
    begun, go_on = threading.Event(), threading.Event()
    real = drafts.apply_edit

    def slowly(*what):  # type: ignore[no-untyped-def]
        begun.set()
        assert go_on.wait(60)
        return real(*what)

    monkeypatch.setattr(drafts, "apply_edit", slowly)
    making = client.post(base, json=QUARTER).json()["making"]
    worker = threading.Thread(target=lambda: work(data, once=True))
    worker.start()
    assert begun.wait(60)
    undone = step(client, base, "undo").json()
    assert (undone["done"], undone["redo"], undone["faces"]) == (0, 1, start["faces"])
    go_on.set()
    worker.join()
    job = next(j for j in client.get("/api/v1/jobs").json() if j["id"] == making["id"])
    assert job["state"] == "done"
    assert client.get(base).json()["faces"] == start["faces"]
    assert step(client, base, "redo").json()["faces"] < start["faces"]
    # one that is stopped is taken out, and the draft stays as it was before it
    begun.clear(), go_on.clear()
    making = client.post(base, json=HALF).json()["making"]
    worker = threading.Thread(target=lambda: work(data, once=True))
    worker.start()
    assert begun.wait(60)
    client.post(f"/api/v1/jobs/{making['id']}/cancel")
    time.sleep(1.2)  # the worker hears of it by its heartbeat
    go_on.set()
    worker.join()
    assert client.get(base).json()["done"] == 1


def test_a_selection_is_found_before_anything_is_done_to_it(client: TestClient, data: Path, built: int) -> None:
    base = f"/api/v1/projects/{built}/draft"
    client.delete(base)
    start = client.get(base).json()
    top = {"where": [{"by": "slope", "high": 60}, {"by": "grow"}]}
    asked = client.post(f"{base}/select", json=top).json()
    assert (asked["faces"], asked["making"]["kind"]) == (None, "edit")
    assert client.post(f"{base}/selected", json=top).status_code == 404
    work(data, once=True)
    found = client.post(f"{base}/select", json=top).json()
    assert found["making"] is None
    assert 0 < found["faces"] < start["faces"]
    corners = client.post(f"{base}/selected", json=top).content
    assert int.from_bytes(corners[:4], "little") == found["faces"]
    assert len(corners) == 4 + 36 * found["faces"]
    # nothing was done, and what is then done takes just that
    assert client.get(base).json() == start
    client.post(base, json={"kind": "delete", **top})
    work(data, once=True)
    assert client.get(base).json()["faces"] == start["faces"] - found["faces"]
    told = client.get(f"{base}/edits").json()
    assert told["edits"] == [{"kind": "delete", "where": top["where"]}]
    carried = client.post(f"{base}/carry").json()
    assert (carried["done"], carried["on"]) == (1, start["on"])
    for wrong in ({"where": [{"by": "smell"}]}, {"where": [{"by": "ball", "radius": -1, "at": [[0, 0, 0]]}]}, {}):
        assert client.post(f"{base}/select", json=wrong).status_code == 422
    client.delete(base)


def test_what_is_saved_can_be_read_by_what_it_is_saved_for(
    client: TestClient, data: Path, built: int, tmp_path: Path
) -> None:
    kinds = {k["format"]: k for k in client.get(f"/api/v1/projects/{built}/dispatch").json()["kinds"]}
    assert {"glb", "usdz", "3mf", "view", "film", "las", "e57", "cloud"} <= set(kinds)
    assert not kinds["usdz"]["asks"]
    usdz = _parcel(client, data, built, format="usdz", up="y", unit="m")
    assert usdz[:4] == b"PK\x03\x04"
    (tmp_path / "cloud.laz").write_bytes(_parcel(client, data, built, format="las", up="z", unit="m"))
    assert len(laspy.read(tmp_path / "cloud.laz").points) > 100
    told = json.loads(_parcel(client, data, built, format="check", up="z", unit="mm"))
    assert told["volume_mm3"] >= 0
    assert len(told["size_mm"]) == 3
    # axis and unit of what says them itself are not to be chosen
    wrong = client.post(f"/api/v1/projects/{built}/dispatch/parcel", json={"format": "usdz", "up": "z", "unit": "mm"})
    assert wrong.status_code == 422


def step(client: TestClient, draft: str, which: str) -> Any:
    """Take a step back or forth, and have the draft made as it is then."""
    assert client.post(draft.replace("/draft", f"/history/finish/{which}")).status_code == 200
    return client.post(f"{draft}/make")


def _parcel(client: TestClient, data: Path, project: int, **wanted: Any) -> bytes:
    """A parcel as the page gets it: have it made where it is not there, then fetch it."""
    where = f"/api/v1/projects/{project}/dispatch/parcel"
    job = client.post(where, json=wanted).json()
    if job is not None:
        assert client.get(where, params=wanted).status_code == 404
        assert client.post(where, json=wanted).json()["id"] == job["id"], "asked for twice, made once"
        work(data, once=True)
    assert client.post(where, json=wanted).json() is None
    return client.get(where, params=wanted).content


def test_what_no_photo_saw_is_shown_over_the_texture(client: TestClient, data: Path, built: int) -> None:
    where = f"/api/v1/projects/{built}/layers/texture/atlas-map/guessed"
    found = client.get(where)
    assert found.status_code == 200, found.text
    over = np.asarray(Image.open(io.BytesIO(found.content)))
    folder = next((data / "projects" / str(built) / "versions" / "texture").iterdir())
    with Image.open(folder / "seen.png") as picture:
        shade = np.asarray(picture)
    np.testing.assert_array_equal(over[..., 3] > 0, shade == 128)


def test_a_lone_texel_shows_however_much_smaller_the_map_is(tmp_path: Path) -> None:
    assert atlas_map(tmp_path, "guessed") is None
    lone = np.full((4100, 4100), 255, np.uint8)
    lone[1001, 3001] = 128
    Image.fromarray(lone).save(tmp_path / "seen.png")
    data = atlas_map(tmp_path, "guessed")
    assert data is not None
    small = np.asarray(Image.open(io.BytesIO(data)))
    assert small.shape[:2] == (2050, 2050)
    assert np.argwhere(small[..., 3] > 0).tolist() == [[500, 1500]]


def test_parcels_have_the_axis_and_unit_asked_for(client: TestClient, data: Path, built: int) -> None:
    told = client.get(f"/api/v1/projects/{built}/dispatch").json()
    kinds = {p["format"]: p for p in told["kinds"]}
    heights = {}
    for fmt in ("glb", "ply", "stl"):
        k = kinds[fmt]
        content = _parcel(client, data, built, format=fmt, up=k["up"], unit=k["unit"])
        assert 0.7 < len(content) / k["bytes"] < 1.4
        mesh = trimesh.load(io.BytesIO(content), file_type=fmt, force="mesh")
        heights[fmt] = mesh.extents[1 if k["up"] == "y" else 2]
    assert heights["stl"] == pytest.approx(1000 * heights["ply"], rel=1e-3)
    assert heights["glb"] == pytest.approx(heights["ply"], rel=1e-3)
    assert heights["ply"] == pytest.approx(told["size"][2], rel=1e-3)
    lying = _parcel(client, data, built, format="ply", up="y", unit="cm")
    assert trimesh.load(io.BytesIO(lying), file_type="ply").extents[1] == pytest.approx(100 * heights["ply"], rel=1e-3)
    assert client.get(f"/api/v1/projects/{built}/dispatch/recipe").json()["grade"] == "rough"


@pytest.mark.parametrize("wanted", [{"up": "z"}, {"unit": "mm"}, {"up": "z", "unit": "mm"}])
def test_gltf_is_y_up_in_metres_whatever_is_asked(client: TestClient, built: int, wanted: dict[str, str]) -> None:
    """glTF 2.0, 3.4: +Y is up, units are metres. Its readers turn and scale: a file that does it again arrives lying and giant."""
    where = f"/api/v1/projects/{built}/dispatch"
    refused = client.post(f"{where}/parcel", json={"format": "glb", **wanted})
    assert refused.status_code == 422
    asks = {p["format"]: p["asks"] for p in client.get(where).json()["kinds"]}
    assert {k for k, asked in asks.items() if asked} == {"obj", "ply", "stl", "cloud"}
    assert {"glb", "usdz", "3mf", "las", "e57", "cameras"} <= asks.keys()


def test_a_ply_has_the_colours_that_the_texture_has(client: TestClient, data: Path, built: int) -> None:
    mesh = trimesh.load(io.BytesIO(_parcel(client, data, built, format="ply", up="z")), file_type="ply", process=False)
    model = trimesh.load(
        io.BytesIO(_parcel(client, data, built, format="glb")), file_type="glb", force="mesh", process=False
    )
    picture = np.asarray(model.visual.material.baseColorTexture.convert("RGB"), float)
    at = np.clip((model.visual.uv * [1, -1] + [0, 1]) * picture.shape[0], 0, picture.shape[0] - 1).astype(int)
    theirs = picture[at[:, 1], at[:, 0]]
    # the same places, turned to Z up
    places = np.stack([model.vertices[:, 0], -model.vertices[:, 2], model.vertices[:, 1]], 1)
    far, which = cKDTree(mesh.vertices).query(places)
    assert far.max() < 1e-4
    off = np.abs(mesh.visual.vertex_colors[which, :3] - theirs).mean(1)
    assert np.median(off) < 6
    assert len(np.unique(mesh.visual.vertex_colors[:, :3], axis=0)) > 100


def test_cloud_and_cameras_are_saved_from_the_page(client: TestClient, data: Path, built: int, tmp_path: Path) -> None:
    file = tmp_path / "cloud.ply"
    file.write_bytes(_parcel(client, data, built, format="cloud", up="z", unit="cm"))
    cloud = read_ply(file)
    folder = data / "projects" / str(built) / "versions"
    made = load_cloud(folder / "points" / "1")
    np.testing.assert_allclose(cloud.points, 100 * made.points, rtol=1e-5, atol=1e-4)
    assert set(cloud.extra or {}) == {"views", "sigma", "filled"}
    cameras = json.loads(_parcel(client, data, built, format="cameras", up="z"))
    assert cameras == json.loads((folder / "cameras" / "1" / "cameras.json").read_text("utf-8"))


def test_a_parcel_with_simpler_levels_holds_each_with_its_own_texture(
    client: TestClient, data: Path, built: int
) -> None:
    kind = next(p for p in client.get(f"/api/v1/projects/{built}/dispatch").json()["kinds"] if p["format"] == "glb")
    content = _parcel(client, data, built, format="glb", levels=2)
    with zipfile.ZipFile(io.BytesIO(content)) as z:
        names = sorted(z.namelist(), key=len)
        models = [trimesh.load(io.BytesIO(z.read(n)), file_type="glb", force="mesh") for n in names]
    assert [n.rsplit("-", 1)[-1] for n in names[1:]] == ["level1.glb", "level2.glb"]
    for model, triangles in zip(models, kind["triangles"]):
        assert len(model.faces) == pytest.approx(triangles, rel=0.03)
        # a level of some hundred triangles cuts corners
        assert model.extents == pytest.approx(models[0].extents, rel=0.06)
    pictures = [np.asarray(m.visual.material.baseColorTexture.convert("RGB"), float) for m in models]
    side = pictures[0].shape[0]
    assert [p.shape[0] for p in pictures] == [max(min(side, SMALLEST_SIDE), side >> k) for k in range(3)]
    # each shows the colours of the model, places of the same share of the surface considered
    means = []
    for model, picture in zip(models, pictures):
        points, face = trimesh.sample.sample_surface(model, 5000, seed=1)
        b = trimesh.triangles.points_to_barycentric(model.triangles[face], points)
        uv = (b[:, :, None] * model.visual.uv[model.faces[face]]).sum(1)
        at = np.clip((uv * [1, -1] + [0, 1]) * picture.shape[0], 0, picture.shape[0] - 1).astype(int)
        means.append(picture[at[:, 1], at[:, 0]].mean(0))
    assert np.abs(np.array(means[1:]) - means[0]).max() < 4
    assert client.post(f"/api/v1/projects/{built}/dispatch/parcel", json={"levels": 9}).status_code == 422
    assert set(_names(_parcel(client, data, built, format="stl", unit="mm", levels=1))) == {"stl"}


def _names(content: bytes) -> list[str]:
    """Endings of the files in a zip."""
    with zipfile.ZipFile(io.BytesIO(content)) as z:
        return [n.rsplit(".", 1)[-1] for n in z.namelist()]


def test_plan_and_what_it_says(client: TestClient) -> None:
    project = client.post("/api/v1/projects", json={"name": "Plan"}).json()["id"]
    plan = client.get(f"/api/v1/projects/{project}/plan").json()
    out = client.put(f"/api/v1/projects/{project}/plan", json=plan).json()
    assert out["total"] == out["per_ring"] * plan["rings"] == len(out["stations"])
    assert out["gsd_mm"] == pytest.approx(1000 * out["distance"] / out["focal_px"])
    fine = client.put(f"/api/v1/projects/{project}/plan", json={**plan, "detail_mm": 0.05}).json()
    assert not fine["fine_enough"]
    assert any("Go closer" in f["text"] for f in fine["findings"])
    for wrong in ({"overlap": 3}, {"width": 0}, {"focal_mm": -5}, {"colour": "red"}, {"extra": [["a", 0, 0]]}):
        assert client.put(f"/api/v1/projects/{project}/plan", json={**plan, **wrong}).status_code == 422
    answer = client.put(f"/api/v1/projects/{project}/plan", json={**plan, "lowest_m": 3.0})
    assert answer.status_code == 422
    assert "no position" in answer.json()["detail"]
    # none of the refused ones is kept
    assert client.get(f"/api/v1/projects/{project}/plan").json()["detail_mm"] == 0.05
    assert client.get(f"/api/v1/projects/{project}").json()["planned"] == out["total"]


def test_patches_mending_and_files_of_a_plan(client: TestClient) -> None:
    where = f"/api/v1/projects/{client.post('/api/v1/projects', json={'name': 'Mend'}).json()['id']}/plan"
    plan = {**client.get(where).json(), "rings": 1}
    out = client.put(where, json=plan).json()
    patches = client.get(f"{where}/patches").json()
    n = len(patches["count"])
    assert len(patches["corners"]) == 9 * n
    corners = np.array(patches["corners"]).reshape(n, 3, 3)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    wanted, count = np.array(patches["wanted"]), np.array(patches["count"])
    share = area[wanted & (count >= 3)].sum() / area[wanted].sum()
    assert share == pytest.approx(out["seen_by_three"], abs=1e-3)
    assert sum(out["histogram"][3:]) == pytest.approx(share, abs=1e-3)
    better = client.post(f"{where}/mend", params={"shots": 4}).json()
    assert better["plan"]["seen_by_three"] == pytest.approx(share + sum(better["gains"]), abs=1e-3)
    assert better["plan"]["total"] == out["total"] + len(better["gains"])
    assert len(client.get(f"{where}/shots.csv").text.strip().splitlines()) == better["plan"]["total"] + 1
    file = client.get(f"{where}/plan.json").json()
    assert file["request"]["extra"] == better["request"]["extra"]
    assert len(file["result"]["stations"]) == better["plan"]["total"]


def test_shooting_with_the_rig_and_cancelling(client: TestClient, data: Path) -> None:
    project = client.post("/api/v1/projects", json={"name": "Shoot"}).json()["id"]
    plan = {"rings": 1, "pixels_wide": 96, "pixels_high": 72, "removed": list(range(3, 20)), "shape": "cylinder"}
    body = {"scene": "finial", "plan": plan}
    first = client.post(f"/api/v1/projects/{project}/plan/shoot", json=body).json()
    second = client.post(f"/api/v1/projects/{project}/plan/shoot", json=body).json()
    third = client.post(f"/api/v1/projects/{project}/plan/shoot", json={**body, "seed": 2}).json()
    assert client.post(f"/api/v1/jobs/{second['id']}/cancel").json()["state"] == "cancelled"
    work(data, once=True)
    states = {j["id"]: j["state"] for j in client.get("/api/v1/jobs").json()}
    assert [states[j["id"]] for j in (first, second, third)] == ["done", "cancelled", "done"]
    # the second shoot overwrites nothing of the first, and every photo knows where it was planned
    listed = client.get(f"/api/v1/projects/{project}/photos").json()
    paths = [p["path"] for p in listed]
    assert len(paths) == 6
    assert all(p["planned"] for p in listed)
    assert sum(p.startswith("lap2_") for p in paths) == 3
    shots = json.loads((data / "projects" / str(project) / "shots.json").read_text())
    assert set(shots) == set(paths)
    stations = client.put(f"/api/v1/projects/{project}/plan", json=plan).json()["stations"]
    assert shots["finial_002.jpg"]["center"] == stations[1]["center"]


def test_levelling_by_hand_aligns_nothing_again_and_can_be_taken_back(
    client: TestClient, data: Path, built: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    from vast_quarry.pipeline import attempts

    def never(*_: object) -> None:
        raise AssertionError("photos were aligned again")

    monkeypatch.setattr(attempts, "align", never)
    where = f"/api/v1/projects/{built}/layers/cameras"
    before = client.get(f"{where}/scene").json()
    first = client.get(f"/api/v1/projects/{built}/layers").json()[2]["number"]

    def level(steps: list) -> dict:
        assert client.put(f"{where}/settings", json={"level": steps}).status_code == 200
        client.post(f"{where}/run")
        work(data, once=True)
        assert client.get("/api/v1/jobs").json()[0]["state"] == "done"
        return dict(client.get(f"{where}/scene").json())

    level([["z", 10.0]])
    after = level([["z", 10.0], ["x", 2.0]])
    c, s = np.cos(np.radians(10)), np.sin(np.radians(10))
    ct, st = np.cos(np.radians(2)), np.sin(np.radians(2))
    turn = np.array([[1, 0, 0], [0, ct, -st], [0, st, ct]]) @ np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
    for old, new in zip(before["cameras"], after["cameras"]):
        if old["center"]:
            np.testing.assert_allclose(turn @ old["center"], new["center"], atol=1e-9)
    assert after["ground"] == before["ground"]
    states = {x["layer"]: x["state"] for x in client.get(f"/api/v1/projects/{built}/layers").json()}
    assert states["points"] == "out of date"
    assert len(client.get(f"{where}/ties", params={"row": 0}).json()["tied"]) > 20
    assert client.put(f"{where}/settings", json={"level": [["w", 1]]}).status_code == 422
    assert level([]) == before  # the very version that was there
    assert client.get(f"/api/v1/projects/{built}/layers").json()[2]["number"] == first


def test_stills_and_stages_of_what_was_built(client: TestClient, built: int, data: Path) -> None:
    for layer in ("surface", "texture"):
        image = Image.open(io.BytesIO(client.get(f"/api/v1/projects/{built}/layers/{layer}/poster").content))
        share = (np.asarray(image)[..., 3] > 127).mean()
        assert 0.05 < share < 0.8
    assert client.get(f"/api/v1/projects/{built}/layers/points/poster").status_code == 404
    listed = next(p for p in client.get("/api/v1/projects").json() if p["id"] == built)
    assert listed["poster"] == listed["best_layer"]


def test_killed_worker_is_followed_by_one_that_goes_on(client: TestClient, data: Path, ring_set: RigSet) -> None:
    project = client.post("/api/v1/projects", json={"name": "Killed", "grade": "rough"}).json()["id"]
    photos = data / "projects" / str(project) / "photos"
    for p in ring_set.photos.iterdir():
        shutil.copy(p, photos / p.name)
    job = client.post(f"/api/v1/projects/{project}/layers/cameras/run").json()
    command = [sys.executable, "-m", "vast_quarry.server.worker", "--data", str(data)]
    worker = subprocess.Popen(command, start_new_session=True, stderr=subprocess.DEVNULL)
    features = f"projects/{project}/versions/cameras/*.partial/features/*.npz"
    deadline = time.monotonic() + 90
    while len(list(data.glob(features))) < 3 and time.monotonic() < deadline:
        time.sleep(0.05)
    os.killpg(worker.pid, signal.SIGKILL)
    worker.wait()
    kept = {p.name: p.stat().st_mtime_ns for p in data.glob(features)}
    assert len(kept) >= 3
    with Session(client.app.state.engine) as session:  # type: ignore[attr-defined]
        assert session.get(Job, job["id"]).state == "running"  # type: ignore[union-attr]
    # the next worker finds it left behind, and nobody has to queue it again
    work(data, once=True)
    done = next(j for j in client.get("/api/v1/jobs").json() if j["id"] == job["id"])
    assert done["state"] == "done", done["message"]
    assert LOST in [line["text"] for line in done["log"]]
    after = {p.name: p.stat().st_mtime_ns for p in data.glob(f"projects/{project}/versions/cameras/1/features/*.npz")}
    assert all(after[k] == v for k, v in kept.items())


def test_keying_a_backdrop(client: TestClient) -> None:
    project = client.post("/api/v1/projects", json={"name": "Key"}).json()["id"]
    a = np.full((120, 160, 3), (40, 90, 200), np.uint8)
    a[30:90, 50:110] = (180, 90, 40)
    out = io.BytesIO()
    Image.fromarray(a).save(out, "PNG")
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("k.png", out.getvalue()))])
    color = client.get(
        f"/api/v1/projects/{project}/photos/color", params={"path": "k.png", "x": 0.05, "y": 0.05}
    ).json()["rgb"]
    assert color == [40, 90, 200]
    query = {"path": "k.png", "red": color[0], "green": color[1], "blue": color[2], "tolerance": 15}
    hatched = np.asarray(
        Image.open(io.BytesIO(client.get(f"/api/v1/projects/{project}/photos/key", params=query).content))
    )
    assert (hatched[35:85, 55:105, 3] == 0).all()
    assert (hatched[:20, :, 3] > 0).all()


def test_photos_off_their_plan_are_told(client: TestClient, data: Path, built: int, milestone_set: RigSet) -> None:
    where = f"/api/v1/projects/{built}/layers/cameras/scene"
    assert {c["off_plan_percent"] for c in client.get(where).json()["cameras"]} == {None}
    shots = {c["photo"]: {"center": c["center"]} for c in milestone_set.cameras}
    wrong = sorted(shots)[7]
    shots[wrong] = shots[sorted(shots)[20]]
    file = data / "projects" / str(built) / "shots.json"
    file.write_text(json.dumps(shots))
    try:
        told = {c["photo"]: c["off_plan_percent"] for c in client.get(where).json()["cameras"]}
    finally:
        file.unlink()
    assert told.pop(wrong) > 30
    assert max(told.values()) < 2
