"""Resumable uploads by the published protocol (tus 1.0.0), tones and videos of a project."""

from __future__ import annotations

import base64
import errno
import io
import json
import os
from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from sqlmodel import Session, select

from vast_quarry.server import demo
from vast_quarry.server.app import make_app
from vast_quarry.server.models import Project
from vast_quarry.server.services import arrivals, bringing, judging, uploads
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.startup import take_in_what_came
from vast_quarry.server.worker import work

TUS = {"Tus-Resumable": "1.0.0"}
PATCH = {**TUS, "Content-Type": "application/offset+octet-stream"}


@pytest.fixture
def data(tmp_path: Path) -> Path:
    return tmp_path


@pytest.fixture
def client(data: Path) -> TestClient:
    return TestClient(make_app(data), "http://127.0.0.1", raise_server_exceptions=False)


def new_project(client: TestClient) -> int:
    return int(client.post("/api/v1/projects", json={"name": "Uploads"}).json()["id"])


def jpeg(seed: int = 0) -> bytes:
    rng = np.random.default_rng(seed)
    out = io.BytesIO()
    Image.fromarray(rng.integers(0, 255, (120, 160, 3), np.uint8)).save(out, "JPEG")
    return out.getvalue()


def bring(client: TestClient, project: int, folder: Path, **more: object) -> str:
    """Bring in a folder; what the job says of it."""
    job = client.post(f"/api/v1/projects/{project}/photos/from-path", json={"path": str(folder), **more}).json()
    work(client.app.state.data, once=True)  # type: ignore[attr-defined]
    done = next(j for j in client.get("/api/v1/jobs").json() if j["id"] == job["id"])
    return f"{done['state']}: {done['message']['text']}"


def begin(client: TestClient, project: int, name: str, length: int) -> str:
    told = f"filename {base64.b64encode(name.encode()).decode()}"
    head = {**TUS, "Upload-Length": str(length), "Upload-Metadata": told}
    answer = client.post(f"/api/v1/projects/{project}/uploads", headers=head)
    assert answer.status_code == 201, answer.text
    return answer.headers["Location"]


def test_an_upload_that_was_cut_goes_on_where_it_was(client: TestClient) -> None:
    project, whole = new_project(client), jpeg()
    options = client.options(f"/api/v1/projects/{project}/uploads")
    assert options.headers["Tus-Version"] == "1.0.0"
    where = begin(client, project, "Straße 8.jpg", len(whole))
    first = client.patch(where, content=whole[:1000], headers={**PATCH, "Upload-Offset": "0"})
    assert first.status_code == 204
    assert first.headers["Upload-Offset"] == "1000"
    # the page was closed and asks again how far it is
    asked = client.head(where, headers=TUS)
    assert (asked.headers["Upload-Offset"], asked.headers["Upload-Length"]) == ("1000", str(len(whole)))
    assert client.patch(where, content=b"x", headers={**PATCH, "Upload-Offset": "0"}).status_code == 409
    assert client.patch(where, content=b"x", headers={**TUS, "Upload-Offset": "1000"}).status_code == 415
    assert client.get(f"/api/v1/projects/{project}/photos").json() == []
    rest = client.patch(where, content=whole[1000:], headers={**PATCH, "Upload-Offset": "1000"})
    assert rest.headers["Upload-Offset"] == str(len(whole))
    assert [p["path"] for p in client.get(f"/api/v1/projects/{project}/photos").json()] == ["Straße 8.jpg"]
    # who did not hear that it is there asks again, and does not send it twice
    assert client.head(where, headers=TUS).headers["Upload-Offset"] == str(len(whole))
    assert client.patch(where, content=b"", headers={**PATCH, "Upload-Offset": str(len(whole))}).status_code == 204
    assert len(client.get(f"/api/v1/projects/{project}/photos").json()) == 1


def test_uploads_that_cannot_be_taken(client: TestClient, data: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    project = new_project(client)
    where = begin(client, project, "notes.txt", 5)
    refused = client.patch(where, content=b"hello", headers={**PATCH, "Upload-Offset": "0"})
    assert refused.status_code == 422
    assert "not a kind of picture" in refused.json()["detail"]
    where = begin(client, project, "long.jpg", 3)
    assert client.patch(where, content=b"too long", headers={**PATCH, "Upload-Offset": "0"}).status_code == 413
    assert client.delete(where, headers=TUS).status_code == 204
    assert client.delete(where, headers=TUS).status_code == 404
    assert client.head(f"/api/v1/projects/{project}/uploads/../../etc", headers=TUS).status_code in (404, 405)
    forgotten = begin(client, project, "old.jpg", 9)
    monkeypatch.setattr(uploads, "KEPT", -1.0)
    client.delete(begin(client, project, "new.jpg", 9), headers=TUS)
    assert client.head(forgotten, headers=TUS).status_code == 404
    monkeypatch.setattr(uploads, "SPARE", 10**18)
    full = client.post(f"/api/v1/projects/{project}/uploads", headers={**TUS, "Upload-Length": "10"})
    assert full.status_code == 422
    assert "no room" in full.json()["detail"]
    assert client.post(f"/api/v1/projects/{project}/uploads", headers=TUS).status_code == 400
    left = list((data / "projects" / str(project) / "uploads").iterdir())
    assert left == []


def test_tones_are_kept_as_settings_and_the_files_are_left_alone(client: TestClient, data: Path) -> None:
    project = new_project(client)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("a.jpg", jpeg(3)))])
    file = data / "projects" / str(project) / "photos" / "a.jpg"
    before = file.read_bytes()
    where = f"/api/v1/projects/{project}/photos"
    told = client.put(f"{where}/tone", json={"tone": {"shadows": 0.5, "brightness": 1.0}}).json()
    assert told["tone"]["shadows"] == 0.5
    bars = client.get(f"{where}/histogram", params={"path": "a.jpg"}).json()
    mean = [sum(k * x for k, x in enumerate(bars[w])) for w in ("before", "after")]
    assert mean[1] > mean[0] + 4
    picture = Image.open(io.BytesIO(client.get(f"{where}/toned", params={"path": "a.jpg", "side": 160}).content))
    assert np.asarray(picture).mean() > np.asarray(Image.open(file)).mean() + 15
    assert file.read_bytes() == before
    assert client.put(f"{where}/tone", json={"tone": {"shadows": 9}}).status_code == 422
    assert "judged first" in client.post(f"{where}/even").json()["detail"]


def test_single_photos_have_tones_of_their_own(client: TestClient) -> None:
    project = new_project(client)
    files = [("files", (f"{n}.jpg", jpeg(k))) for k, n in enumerate("abc")]
    client.post(f"/api/v1/projects/{project}/photos", files=files)
    where = f"/api/v1/projects/{project}/photos"

    def brightness(name: str) -> float:
        picture = client.get(f"{where}/toned", params={"path": name, "side": 160}).content
        return float(np.asarray(Image.open(io.BytesIO(picture))).mean())

    before = [brightness(n) for n in ("a.jpg", "b.jpg", "c.jpg")]
    told = client.put(f"{where}/tone", json={"tone": {"brightness": 1.0}, "paths": ["a.jpg", "b.jpg"]}).json()
    assert sorted(told["own"]) == ["a.jpg", "b.jpg"]
    after = [brightness(n) for n in ("a.jpg", "b.jpg", "c.jpg")]
    assert after[0] > before[0] + 15
    assert after[1] > before[1] + 15
    assert after[2] == before[2]
    # one that is as all the others has nothing of its own, and what counts for all ends what single ones have
    assert list(client.put(f"{where}/tone", json={"tone": {}, "paths": ["a.jpg"]}).json()["own"]) == ["b.jpg"]
    assert client.put(f"{where}/tone", json={"tone": {"shadows": 0.2}}).json()["own"] == {}


def test_tones_are_kept_under_names_for_all_projects(client: TestClient) -> None:
    assert client.put("/api/v1/tone-presets/shady", json={"shadows": 0.6}).status_code == 204
    assert client.put("/api/v1/tone-presets/shady", json={"shadows": 0.7}).status_code == 204
    kept = {p["name"]: p["tone"]["shadows"] for p in client.get("/api/v1/tone-presets").json()}
    assert kept == {"shady": 0.7}
    assert client.put(f"/api/v1/tone-presets/{'x' * 61}", json={}).status_code == 422
    assert client.delete("/api/v1/tone-presets/shady").status_code == 204
    assert client.delete("/api/v1/tone-presets/shady").status_code == 404


def test_corners_are_given_back_where_something_says_how_dark_they_are(client: TestClient, data: Path) -> None:
    project = new_project(client)
    exif = Image.Exif()
    exif[0x010F], exif[0x0110] = "Canon", "Canon EOS 5D Mark III"
    sub = exif.get_ifd(0x8769)
    sub[0x920A], sub[0x829D], sub[0xA434] = 50.0, 1.8, "Canon EF 50mm f/1.8 II"
    out = io.BytesIO()
    Image.new("RGB", (160, 120), (90, 90, 90)).save(out, format="JPEG", quality=95, exif=exif)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("a.jpg", out.getvalue()))])
    where = f"/api/v1/projects/{project}/photos"
    assert "judged first" in client.post(f"{where}/falloff", params={"by": "photos"}).json()["detail"]
    told = client.post(f"{where}/falloff", params={"by": "database"}).json()
    assert 1.0 < told["corner_stops"] < 2.5
    assert told["falloff_from"] == "database"
    picture = np.asarray(Image.open(io.BytesIO(client.get(f"{where}/toned", params={"path": "a.jpg"}).content)))
    assert picture[2, 2, 0] > picture[60, 80, 0] + 60
    assert client.post(f"{where}/falloff", params={"by": "nothing"}).json()["corner_stops"] == 0
    other = new_project(client)
    assert (
        "does not know"
        in client.post(f"/api/v1/projects/{other}/photos/falloff", params={"by": "database"}).json()["detail"]
    )


def film() -> bytes:
    out = io.BytesIO()
    container = av.open(out, "w", format="mp4")
    stream: Any = container.add_stream("mpeg4", rate=25)
    stream.width, stream.height, stream.pix_fmt = 160, 120, "yuv420p"
    wide = np.random.default_rng(0).integers(0, 255, (15, 80, 3), np.uint8).repeat(8, 0).repeat(8, 1)
    for k in range(40):
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(wide[:, 6 * k : 6 * k + 160]), format="rgb24")
        container.mux(stream.encode(frame))
    container.mux(stream.encode())
    container.close()
    return out.getvalue()


def test_a_video_is_looked_through_chosen_from_and_cut(client: TestClient, data: Path) -> None:
    project, whole = new_project(client), film()
    where = begin(client, project, "walk.mp4", len(whole))
    client.patch(where, content=whole, headers={**PATCH, "Upload-Offset": "0"})
    at = f"/api/v1/projects/{project}/videos"
    assert client.get(at).json()[0]["looked"] is False
    assert client.post(f"{at}/walk.mp4/choose", json={}).status_code == 422
    work(data, once=True)
    video = client.get(at).json()[0]
    assert video["looked"]
    assert video["proxies"] == len(video["times"]) == 40
    assert client.get(f"{at}/walk.mp4/picture/3").headers["content-type"] == "image/jpeg"
    assert client.get(f"{at}/walk.mp4/picture/999").status_code == 404
    chosen = client.post(f"{at}/walk.mp4/choose", json={"by": "count", "count": 5, "ranges": [[0.4, 1.0]]}).json()
    assert chosen["count"] == 5
    assert min(chosen["times"][0]) >= 0.4
    assert max(chosen["times"][0]) <= 1.0
    client.post(f"{at}/walk.mp4/take", json={"by": "step", "step": 10, "crop": [0, 8, 0, 8]})
    work(data, once=True)
    photos = client.get(f"/api/v1/projects/{project}/photos").json()
    assert [p["frame"] for p in photos] == [0, 10, 20, 30]
    assert {(p["width"], p["height"]) for p in photos} == {(160, 104)}
    assert client.delete(f"{at}/walk.mp4").json()["names"] == ["walk.mp4"]
    assert client.get(at).json() == []
    assert len(client.get(f"/api/v1/projects/{project}/photos").json()) == 4


def test_what_is_no_video_is_refused(client: TestClient) -> None:
    project = new_project(client)
    for name, body in (("a.mp4", b"nothing of the kind"), ("b.mp4", b""), ("c.exe", b"MZ")):
        answer = client.post(f"/api/v1/projects/{project}/videos", files={"file": (name, body)})
        assert answer.status_code == 422, name
    assert client.get(f"/api/v1/projects/{project}/videos").json() == []


def test_a_focal_length_can_be_typed_in_for_photos_that_do_not_say_theirs(client: TestClient, data: Path) -> None:
    project = new_project(client)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", (f"{k}.jpg", jpeg(k))) for k in range(2)])
    client.put(f"/api/v1/projects/{project}/layers/photos/settings", json={"focal_as_35_mm": 50})
    client.post(f"/api/v1/projects/{project}/layers/photos/run")
    work(data, once=True)
    folder = next((data / "projects" / str(project) / "versions" / "photos").glob("[0-9]*"))
    photos = json.loads((folder / "photos.json").read_text())["photos"]
    assert {p["focal_source"] for p in photos} == {"typed in"}
    # 50 mm on 36 x 24 mm, by the diagonal of 160 x 120 pixels
    assert photos[0]["focal"] == pytest.approx(50 / 43.267 * 200, rel=1e-3)


def test_photos_by_reference_are_told_when_they_are_gone_and_pointed_to_again(
    client: TestClient, tmp_path: Path
) -> None:
    project = new_project(client)
    here, there = tmp_path / "camera", tmp_path / "archive"
    here.mkdir()
    for k in range(3):
        (here / f"{k}.jpg").write_bytes(jpeg(k))
    where = f"/api/v1/projects/{project}/photos"
    for _ in range(2):  # none comes a second time
        bring(client, project, here, copy_files=False)
        listed = client.get(where).json()
        assert [p["path"] for p in listed] == ["0.jpg", "1.jpg", "2.jpg"]
    assert [p["problem"] for p in listed] == [None] * 3
    assert client.get(f"{where}/thumb", params={"path": "1.jpg"}).status_code == 200
    here.rename(there)
    listed = client.get(where).json()
    assert all("no longer where it was" in p["problem"]["text"] and p["gone"] for p in listed)
    assert client.get(f"{where}/thumb", params={"path": "1.jpg"}).status_code == 404
    (tmp_path / "empty").mkdir()
    assert client.post(f"{where}/point-again", json={"path": str(tmp_path / "empty")}).status_code == 422
    assert client.post(f"{where}/point-again", json={"path": str(there)}).json() == 3
    assert not any(p["problem"] for p in client.get(where).json())
    # nothing outside is reached by name
    for name in ("../../../secret.jpg", "/etc/passwd", "..%2f..%2fx.jpg"):
        assert client.get(f"{where}/full", params={"path": name}).status_code == 404


def test_sets_are_split_merged_and_renamed_by_hand(client: TestClient) -> None:
    project = new_project(client)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", (f"{k}.jpg", jpeg(k))) for k in range(4)])
    where = f"/api/v1/projects/{project}/photos"

    def sets() -> list[str | None]:
        return [p["set"] for p in client.get(where).json()]

    assert sets() == [None] * 4
    client.put(f"{where}/set", json={"paths": ["0.jpg", "1.jpg"], "name": "low lap"})
    client.put(f"{where}/set", json={"paths": ["2.jpg"], "name": "high lap"})
    assert sets() == ["low lap", "low lap", "high lap", None]
    client.put(f"{where}/set", json={"paths": ["2.jpg"], "name": "low lap"})
    client.put(f"{where}/set", json={"paths": ["0.jpg"], "name": " "})
    assert sets() == [None, "low lap", "low lap", None]
    assert client.put(f"{where}/set", json={"paths": ["0.jpg"], "name": "x" * 99}).status_code == 422
    assert client.put(f"{where}/set", json={"paths": [], "name": "x"}).status_code == 422


def test_a_run_of_everything_leaves_out_what_is_proposed_unless_somebody_decided(
    client: TestClient, data: Path
) -> None:
    project = new_project(client)
    files = [("files", (f"{k}.jpg", jpeg(k))) for k in range(3)] + [("files", ("odd.jpg", jpeg(9)))]
    client.post(f"/api/v1/projects/{project}/photos", files=files)
    folders = folders_of(data, project)
    rows = [
        {
            "photo": f"{k}.jpg",
            "proposal": "keep",
            "reasons": [],
            "says": "",
            "tag": judging._tag(folders.photos / f"{k}.jpg"),
        }
        for k in range(3)
    ]
    odd = {"photo": "odd.jpg", "proposal": "leave out", "reasons": ["unrelated"], "says": "shares nothing"}
    rows.append({**odd, "tag": judging._tag(folders.photos / "odd.jpg")})
    (folders.root / judging.JUDGED).write_text(json.dumps({"photos": rows, "findings": []}))

    def run() -> tuple[int, str]:
        client.post(f"/api/v1/projects/{project}/layers/photos/run", params={"everything": True})
        work(data, once=True)
        layers = {x["layer"]: x for x in client.get(f"/api/v1/projects/{project}/layers").json()}
        return layers["photos"]["versions"][-1]["figures"]["usable"], "\n".join(
            line["text"] for line in client.get("/api/v1/jobs").json()[0]["log"]
        )

    usable, log = run()
    assert usable == 3
    assert "Left out as judging proposes: odd.jpg" in log
    # somebody looked at it, and keeps it
    client.patch(f"/api/v1/projects/{project}/photos", json={"paths": [], "kept": False, "decided": ["odd.jpg"]})
    usable, log = run()
    assert usable == 4
    assert "judging" not in log


def test_a_photo_whose_last_byte_came_before_a_kill_is_taken_in(client: TestClient, data: Path) -> None:
    """The bytes are all there, but the server ended before the photo had its name: asked again, or started again."""
    project = new_project(client)
    root = folders_of(data, project).root / "uploads"
    wheres = [begin(client, project, f"{k}.jpg", len(jpeg(k))) for k in range(3)]
    for k, where in enumerate(wheres):
        (root / f"{where.rsplit('/', 1)[1]}.part").write_bytes(jpeg(k))
    asked = client.head(wheres[0], headers=TUS)
    assert asked.headers["Upload-Offset"] == asked.headers["Upload-Length"]
    assert [p["path"] for p in client.get(f"/api/v1/projects/{project}/photos").json()] == ["0.jpg"]
    # one had its name already, but that was not noted
    number = wheres[1].rsplit("/", 1)[1]
    os.link(root / f"{number}.part", folders_of(data, project).photos / "1.jpg")
    assert take_in_what_came(client.app.state.engine, data) == 0  # type: ignore[attr-defined]
    photos = folders_of(data, project).photos
    assert {p.name: p.read_bytes() for p in photos.iterdir()} == {f"{k}.jpg": jpeg(k) for k in range(3)}
    assert not list(root.glob("*.part"))


def test_a_disk_that_is_full_at_the_last_step_keeps_what_came(
    client: TestClient, data: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    project, whole = new_project(client), jpeg(4)
    where = begin(client, project, "late.jpg", len(whole))

    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(arrivals, "sync", full)
    answer = client.patch(where, content=whole, headers={**PATCH, "Upload-Offset": "0"})
    assert answer.status_code == 507
    assert "disk is full" in answer.json()["detail"]
    monkeypatch.undo()
    assert client.get(f"/api/v1/projects/{project}/photos").json() == []
    assert client.head(where, headers=TUS).headers["Upload-Offset"] == str(len(whole))
    assert [p["path"] for p in client.get(f"/api/v1/projects/{project}/photos").json()] == ["late.jpg"]


def test_two_that_go_on_with_one_upload_and_one_that_sends_too_much(client: TestClient, data: Path) -> None:
    project, whole = new_project(client), jpeg(5)
    where = begin(client, project, "two.jpg", len(whole))
    number = where.rsplit("/", 1)[1]
    folders = folders_of(data, project)
    with uploads.receiving(folders, number):
        assert client.patch(where, content=whole, headers={**PATCH, "Upload-Offset": "0"}).status_code == 423
        assert client.head(where, headers=TUS).status_code == 423
    assert client.patch(where, content=whole[:500], headers={**PATCH, "Upload-Offset": "0"}).status_code == 204
    more = client.patch(where, content=whole[500:] + b"more", headers={**PATCH, "Upload-Offset": "500"})
    assert more.status_code == 413
    assert client.head(where, headers=TUS).headers["Upload-Offset"] == "500"
    assert client.patch(where, content=whole[500:], headers={**PATCH, "Upload-Offset": "500"}).status_code == 204
    assert (folders.photos / "two.jpg").read_bytes() == whole


def test_a_demo_that_is_broken_off_leaves_no_empty_project(data: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    engine = make_app(data).state.engine

    def breaks(*_: object, **__: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(demo.shutil, "copytree", breaks)
    with pytest.raises(KeyboardInterrupt):
        demo.add_demo(engine, data)
    with Session(engine) as session:
        assert session.exec(select(Project)).all() == []
    assert not (data / "projects").exists() or not list((data / "projects").iterdir())


def test_a_photo_larger_than_is_taken_is_refused_by_name(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    project = new_project(client)
    monkeypatch.setattr(bringing, "LARGEST_PHOTO", 100)
    answer = client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("big.jpg", jpeg()))])
    assert answer.status_code == 201
    assert answer.json()["taken"] == []
    assert "big.jpg is larger" in answer.json()["refused"][0]["why"]["text"]
