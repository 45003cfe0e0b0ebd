"""Names that climb, names that clash, pictures as large as a memory, and files that are damaged or gone."""

from __future__ import annotations

import io
import re
from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

import vast_quarry
from vast_quarry.core.errors import PlainError
from vast_quarry.server.app import make_app
from vast_quarry.server.services import masks, videos
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.services.names import clean_name, clean_path, within

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
        client.post("/api/projects", json={"name": name})
    return client


def everything(folder: Path) -> set[str]:
    return {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()}


@pytest.mark.parametrize("name", CLIMBING)
def test_a_name_that_climbs_once_it_is_cleaned_stays_in_its_folder(client: TestClient, data: Path, name: str) -> None:
    before = everything(data)
    quoted = re.sub(r"[\x00-\x1f]", "\x01", name)
    for where in ("photos", "photos/masks"):
        client.post(f"/api/projects/1/{where}", files=[("files", (quoted, picture()))])
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
    assert client.delete(f"/api/projects/1/videos/{name}").status_code == 204
    assert not cache.exists()


@pytest.mark.parametrize("mask", ["a.png", "a_mask.png", "mask_a.png", "a.jpg.png"])
def test_a_mask_belongs_to_its_photo_by_any_of_the_names_that_masks_have(client: TestClient, mask: str) -> None:
    client.post("/api/projects/1/photos", files=[("files", ("a.jpg", picture(kind="JPEG")))])
    told = client.post("/api/projects/1/photos/masks", files=[("files", (mask, picture()))]).json()
    assert told["taken"] == [mask]
    assert told["remarks"] == []
    assert client.get("/api/projects/1/photos").json()[0]["masked"] is True
    lone = client.post("/api/projects/1/photos/masks", files=[("files", ("b_mask.png", picture()))]).json()
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
        answer = client.get("/api/projects")
        assert answer.status_code == 200
        two, one = answer.json()
        assert one["trouble"], bad
        assert two["trouble"] is None
        assert client.get("/api/projects/2").json()["name"] == "Two"


def test_a_folder_of_photos_that_became_a_file(client: TestClient, data: Path) -> None:
    photos = data / "projects" / "1" / "photos"
    photos.rmdir()
    photos.write_bytes(b"?")
    assert client.get("/api/projects/1/photos").json() == []
    assert [p["photos"] for p in client.get("/api/projects").json()] == [0, 0]
    assert client.post("/api/projects/1/photos", files=[("files", ("a.png", picture()))]).status_code == 507


def test_photos_on_a_share_that_is_gone_are_marked_and_the_list_stays(
    client: TestClient, data: Path, tmp_path: Path
) -> None:
    share = tmp_path / "share"
    share.mkdir()
    (share / "a.png").write_bytes(picture())
    assert client.post("/api/projects/1/photos", files=[("files", ("b.png", picture()))]).status_code == 201
    (data / "projects" / "1" / "photos" / "a.png").symlink_to(share / "a.png")
    (share / "a.png").unlink()
    share.rmdir()
    share.write_bytes(b"a file now")
    told = {p["path"]: p for p in client.get("/api/projects/1/photos").json()}
    assert told["a.png"]["gone"]
    assert not told["b.png"]["gone"]
