"""Names that climb, names that clash, pictures as large as a memory, and files that are damaged or gone."""

from __future__ import annotations

import errno
import io
import os
import re
import threading
from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from sqlmodel import Session
from tests.conftest import Quiet

import vast_quarry
from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.reading import photo_names
from vast_quarry.core.progress import Cancelled
from vast_quarry.server.app import make_app
from vast_quarry.server.services import arrivals, bringing, masks, videos
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.services.jobs import next_job
from vast_quarry.server.services.names import clean_name, clean_path, within
from vast_quarry.server.worker import work

CLIMBING = [
    "\u200b../\x01../a.jpg",
    "\u200b..",
    "a/\x01..\\../b.jpg",
    "..\u200b/c.jpg",
    "/etc/d.jpg",
    "....//e.jpg",
    ". ./f.jpg",
]


def picture(side: tuple[int, int] = (32, 24), kind: str = "PNG") -> bytes:
    out = io.BytesIO()
    Image.new("RGB", side, (90, 120, 60)).save(out, kind)
    return out.getvalue()


@pytest.fixture
def data(tmp_path: Path) -> Path:
    return tmp_path / "data"


@pytest.fixture
def client(data: Path) -> TestClient:
    client = TestClient(make_app(data), "http://127.0.0.1")
    for name in ("One", "Two"):
        client.post("/api/v1/projects", json={"name": name})
    return client


def everything(folder: Path) -> set[str]:
    return {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()}


@pytest.mark.parametrize("name", CLIMBING)
def test_a_name_that_climbs_once_it_is_cleaned_stays_in_its_folder(client: TestClient, data: Path, name: str) -> None:
    before = everything(data)
    quoted = re.sub(r"[\x00-\x1f]", "\x01", name)
    for where in ("photos", "photos/masks"):
        client.post(f"/api/v1/projects/1/{where}", files=[("files", (quoted, picture()))])
    came = everything(data) - before
    assert all(re.match(r"projects/1/(photos|masks)/", p) or p.startswith("vast-quarry") for p in came), came
    assert not any(".." in Path(p).parts for p in came)


@given(st.text(max_size=60))
def test_whatever_is_sent_becomes_a_name_below_the_folder(name: str) -> None:
    root = Path("/somewhere/photos")
    path = clean_path(name)
    assert 1 <= len(path.parts) <= 3
    assert not path.is_absolute()
    for part in path.parts:
        assert part.strip(". ")
        assert part.isprintable()
        assert len(part.encode()) < 255
        assert not part.startswith(".")
    assert (root / path).is_relative_to(root)
    assert "/" not in clean_name(name)
    assert clean_name(name).strip(". ")


def test_a_link_that_leads_out_is_no_way_in(tmp_path: Path) -> None:
    (tmp_path / "photos").mkdir()
    (tmp_path / "photos" / "out").symlink_to(tmp_path)
    assert within(tmp_path / "photos", "a/b.jpg") == tmp_path / "photos" / "a" / "b.jpg"
    for name in ("out/a.jpg", "../a.jpg", "a/../../b.jpg", "", ".."):
        with pytest.raises(PlainError, match="leads out"):
            within(tmp_path / "photos", name)


def test_two_videos_of_one_stem_keep_their_frames_apart(data: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(videos, "probe", lambda _: None)
    folders = folders_of(data, 1)
    folders.make()
    names = [videos.take_video(folders, n, io.BytesIO(b"v")) for n in ("clip.mp4", "clip.mov", "Clip.mkv", "clip.mp4")]
    assert names[:2] == ["clip.mp4", "clip (1).mov"]
    stems = [Path(n).stem.casefold() for n in names]
    assert len(set(stems)) == len(stems)


def test_what_looking_through_a_video_gave_goes_with_it(
    client: TestClient, data: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(videos, "probe", lambda _: None)
    folders = folders_of(data, 1)
    name = videos.take_video(folders, "clip.mp4", io.BytesIO(b"v"))
    cache = videos._cache(folders, videos.video_file(folders, name))
    cache.mkdir(parents=True)
    (cache / "0.jpg").write_bytes(picture(kind="JPEG"))
    removed = client.delete(f"/api/v1/projects/1/videos/{name}").json()
    assert not cache.exists()
    assert client.get("/api/v1/projects/1/videos").json() == []
    client.post(f"/api/v1/projects/1/trash/{removed['number']}/bring-back")
    assert (cache / "0.jpg").exists()
    assert videos.video_file(folders, name).read_bytes() == b"v"


@pytest.mark.parametrize("mask", ["a.png", "a_mask.png", "mask_a.png", "a.jpg.png"])
def test_a_mask_belongs_to_its_photo_by_any_of_the_names_that_masks_have(client: TestClient, mask: str) -> None:
    client.post("/api/v1/projects/1/photos", files=[("files", ("a.jpg", picture(kind="JPEG")))])
    told = client.post("/api/v1/projects/1/photos/masks", files=[("files", (mask, picture()))]).json()
    assert told["taken"] == [mask]
    assert told["remarks"] == []
    assert client.get("/api/v1/projects/1/photos").json()[0]["masked"] is True
    lone = client.post("/api/v1/projects/1/photos/masks", files=[("files", ("b_mask.png", picture()))]).json()
    assert "belongs to no photo" in lone["remarks"][0]["text"]


def test_pictures_that_people_bring_are_decoded_by_the_reader_alone() -> None:
    """The server itself names no function that decodes a photo; the reader of files has them."""
    root = Path(vast_quarry.__file__).parent / "server"
    for file in root.rglob("*.py"):
        text = file.read_text("utf-8")
        assert not re.search(r"from vast_quarry\.core\.photo\.reading import [^\n]*\bload_", text), file
    assert masks.load_small.__wrapped__.__module__ == "vast_quarry.core.photo.reading"  # type: ignore[attr-defined]


def test_a_damaged_project_is_listed_with_its_trouble_and_the_others_are_as_ever(
    client: TestClient, data: Path
) -> None:
    broken = data / "projects" / "1" / "versions"
    broken.mkdir(parents=True)
    for bad in (b"{", b"[3]", b'{"points": "x"}', b"\xff\xfe"):
        (broken / "in-use.json").write_bytes(bad)
        answer = client.get("/api/v1/projects")
        assert answer.status_code == 200
        two, one = answer.json()
        assert one["trouble"], bad
        assert two["trouble"] is None
        assert client.get("/api/v1/projects/2").json()["name"] == "Two"


def test_a_folder_of_photos_that_became_a_file(client: TestClient, data: Path) -> None:
    photos = data / "projects" / "1" / "photos"
    photos.rmdir()
    photos.write_bytes(b"?")
    assert client.get("/api/v1/projects/1/photos").json() == []
    assert [p["photos"] for p in client.get("/api/v1/projects").json()] == [0, 0]
    assert client.post("/api/v1/projects/1/photos", files=[("files", ("a.png", picture()))]).status_code == 507


def test_photos_on_a_share_that_is_gone_are_marked_and_the_list_stays(
    client: TestClient, data: Path, tmp_path: Path
) -> None:
    share = tmp_path / "share"
    share.mkdir()
    (share / "a.png").write_bytes(picture())
    assert client.post("/api/v1/projects/1/photos", files=[("files", ("b.png", picture()))]).status_code == 201
    (data / "projects" / "1" / "photos" / "a.png").symlink_to(share / "a.png")
    (share / "a.png").unlink()
    share.rmdir()
    share.write_bytes(b"a file now")
    told = {p["path"]: p for p in client.get("/api/v1/projects/1/photos").json()}
    assert told["a.png"]["gone"]
    assert not told["b.png"]["gone"]


def told(client: TestClient, number: int) -> dict:
    return next(j for j in client.get("/api/v1/jobs").json() if j["id"] == number)


def test_a_folder_is_brought_in_once_and_what_is_no_file_is_named(
    client: TestClient, data: Path, tmp_path: Path
) -> None:
    source = tmp_path / "shoot"
    source.mkdir()
    for k in range(5):
        (source / f"{k}.png").write_bytes(picture((32, 24 + k)))
    (source / "again.png").write_bytes(picture((32, 24)))  # what 0.png holds
    os.mkfifo(source / "pipe.jpg")
    (source / "lost.jpg").symlink_to(tmp_path / "nowhere.jpg")
    body = {"path": str(source)}
    first = client.post("/api/v1/projects/1/photos/from-path", json=body)
    assert first.status_code == 202
    # pressed twice it is one job
    assert client.post("/api/v1/projects/1/photos/from-path", json=body).json()["id"] == first.json()["id"]
    work(data, once=True)
    job = told(client, first.json()["id"])
    assert job["state"] == "done"
    assert job["message"]["text"].startswith("5 photos brought in, 1 was there already. 2 files were refused")
    assert any("pipe.jpg: It is no regular file." in line["text"] for line in job["log"])
    names = [p["path"] for p in client.get("/api/v1/projects/1/photos").json()]
    assert names == ["0.png", "1.png", "2.png", "3.png", "4.png"]
    assert not [p for p in (data / "projects" / "1" / "photos").iterdir() if p.name.startswith(".")]
    later = client.post("/api/v1/projects/1/photos/from-path", json=body).json()["id"]
    work(data, once=True)
    assert told(client, later)["message"]["text"].startswith("No photo brought in, 6 were there already.")


def test_a_run_waits_for_photos_that_are_coming(client: TestClient, data: Path, tmp_path: Path) -> None:
    (tmp_path / "a.png").write_bytes(picture())
    assert client.post("/api/v1/projects/1/layers/photos/run").status_code == 422  # nothing there, nothing coming
    client.post("/api/v1/projects/1/photos/from-path", json={"path": str(tmp_path)})
    run = client.post("/api/v1/projects/1/layers/photos/run").json()["id"]
    with Session(client.app.state.engine) as session:  # type: ignore[attr-defined]
        assert next_job(session, busy=("light",)) is None
    work(data, once=True)
    assert told(client, run)["state"] in ("done", "failed")
    assert "no photos" not in told(client, run)["message"]["text"].lower()


def test_bringing_in_can_be_stopped_and_goes_on_where_it_was(data: Path, tmp_path: Path) -> None:
    source = tmp_path / "many"
    source.mkdir()
    for k in range(2 * bringing.BATCH + 6):
        (source / f"{k:03d}.png").write_bytes(picture() + b"%d" % k)
    folders = folders_of(data, 1)
    stop = threading.Event()

    class Stopping(Quiet):
        def stage(self, *told: object) -> None:
            if told[2]:
                stop.set()

    with pytest.raises(Cancelled):
        bringing.bring_folder(folders, str(source), True, Stopping(), stop)
    assert len(photo_names(folders.photos)) == 2 * bringing.BATCH
    stop.clear()
    rest = bringing.bring_folder(folders, str(source), True, Quiet(), stop)
    assert len(photo_names(folders.photos)) == 2 * bringing.BATCH + 6
    assert (len(rest.taken), len(rest.known)) == (6, 2 * bringing.BATCH)


def test_each_file_that_is_sent_is_taken_known_or_refused(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    files = [("files", (f"{k}.png", picture((32, 24 + k)))) for k in range(4)]
    real = arrivals._named

    def full(file: Path, wanted: Path, settle: bool = True) -> Path:
        if wanted.name in ("2.png", "3.png"):
            raise OSError(errno.ENOSPC, "no space")
        return real(file, wanted, settle)

    monkeypatch.setattr(arrivals, "_named", full)
    answer = client.post("/api/v1/projects/1/photos", files=files)
    assert answer.status_code == 201
    assert answer.json()["taken"] == ["0.png", "1.png"]
    assert [r["name"] for r in answer.json()["refused"]] == ["2.png", "3.png"]
    assert "disk is full" in answer.json()["refused"][0]["why"]["text"]
    monkeypatch.setattr(arrivals, "_named", real)
    again = client.post("/api/v1/projects/1/photos", files=[*files, ("files", ("notes.txt", b"x"))]).json()
    assert again["known"] == ["0.png", "1.png"]
    assert again["taken"] == ["2.png", "3.png"]
    assert [r["name"] for r in again["refused"]] == ["notes.txt"]
    assert len(client.get("/api/v1/projects/1/photos").json()) == 4


@pytest.mark.parametrize("path", ["~nobody-of-that-name/x", "/\0", "a" * 5000, "loop"])
def test_folders_that_cannot_be(client: TestClient, tmp_path: Path, path: str) -> None:
    (tmp_path / "loop").symlink_to(tmp_path / "loop")
    where = str(tmp_path / "loop") if path == "loop" else path
    for what in ("from-path", "point-again"):
        answer = client.post(f"/api/v1/projects/1/photos/{what}", json={"path": where})
        assert answer.status_code == 422
        assert "There is no folder" in answer.json()["detail"]
