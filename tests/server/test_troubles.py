"""What goes wrong in real use: masses of files, foreign files, a removed project, a full disk, a worker that hangs."""

from __future__ import annotations

import errno
import io
import os
import signal
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import psutil
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from sqlmodel import Session, select

from vast_quarry.pipeline.apart import Slow
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.steps.photos import PhotosStep
from vast_quarry.server.app import make_app
from vast_quarry.server.keeper import Keeper
from vast_quarry.server.models import Job, Project
from vast_quarry.server.services import arrivals, jobs, pictures, tiles
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.worker import work


def photo(seed: int = 0, size: tuple[int, int] = (96, 72)) -> bytes:
    out = io.BytesIO()
    noise = np.random.default_rng(seed).integers(0, 255, (size[1], size[0], 3), np.uint8)
    Image.fromarray(noise).save(out, "JPEG", quality=60)
    return out.getvalue()


def mask() -> bytes:
    out = io.BytesIO()
    Image.new("L", (96, 72), 255).save(out, "PNG")
    return out.getvalue()


@pytest.fixture
def client(tmp_path: Path) -> TestClient:
    return TestClient(make_app(tmp_path), "http://127.0.0.1")


def new_project(client: TestClient) -> int:
    return int(client.post("/api/v1/projects", json={"name": "Well-head", "grade": "rough"}).json()["id"])


def wait_for(what: str, seconds: float, ask: object) -> None:
    """Wait until something becomes true; the limit is only there to end a broken test."""
    assert callable(ask)
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if ask():
            return
        time.sleep(0.05)
    raise AssertionError(f"{what} did not happen")


def test_two_thousand_files(client: TestClient) -> None:
    project = new_project(client)
    data = photo()
    for start in range(0, 2000, 100):
        # what follows the end of a JPEG is no part of the picture
        files = [("files", (f"lap/photo_{k:04d}.jpg", data + f"{k:04d}".encode())) for k in range(start, start + 100)]
        answer = client.post(f"/api/v1/projects/{project}/photos", files=files)
        assert len(answer.json()["taken"]) == 100
    listed = client.get(f"/api/v1/projects/{project}/photos").json()
    assert len(listed) == 2000
    assert listed[9]["path"] == "lap/photo_0009.jpg"  # in natural order
    # and the background makes thumbnails of them without being asked
    cache = folders_of(client.app.state.data, project).cache  # type: ignore[attr-defined]
    wait_for("thumbnails", 120, lambda: len(list(cache.glob("thumb-*.jpg"))) >= 200)


def test_ten_thousand_files_where_they_lie(client: TestClient, tmp_path: Path) -> None:
    source = tmp_path / "shoot"
    source.mkdir()
    data = photo()
    for k in range(10_000):
        (source / f"a_{k:05d}.jpg").write_bytes(data + b"." * k)
    project = new_project(client)
    body = {"path": str(source), "copy_files": False}
    assert client.post(f"/api/v1/projects/{project}/photos/from-path", json=body).status_code == 202
    work(client.app.state.data, once=True)  # type: ignore[attr-defined]
    listed = client.get(f"/api/v1/projects/{project}/photos").json()
    assert [listed[0]["path"], listed[-1]["path"]] == ["a_00000.jpg", "a_09999.jpg"]
    assert all(p["problem"] is None for p in listed)


@pytest.mark.parametrize("name", ["a" * 251 + ".jpg", "碑" * 83 + ".jpeg", "Märchenstein Ø – 1.jpg", "صخرة.png"])
def test_names_as_long_as_they_may_be_and_in_other_scripts(client: TestClient, name: str) -> None:
    project = new_project(client)
    for k, folder in enumerate(("east", "west")):  # the same name from two folders
        answer = client.post(
            f"/api/v1/projects/{project}/photos", files=[("files", (f"{folder}/{name}", photo(8 + k)))]
        )
        assert len(answer.json()["taken"]) == 1
    again = client.post(f"/api/v1/projects/{project}/photos", files=[("files", (f"east/{name}", photo(2)))]).json()[
        "taken"
    ][0]
    listed = {p["path"]: p for p in client.get(f"/api/v1/projects/{project}/photos").json()}
    assert len(listed) == 3
    assert again in listed
    assert all(p["problem"] is None and p["path"].endswith(Path(name).suffix) for p in listed.values())
    assert client.get(f"/api/v1/projects/{project}/photos/thumb", params={"path": again}).status_code == 200


def test_a_mask_keeps_the_name_of_its_photo_however_long(client: TestClient) -> None:
    project = new_project(client)
    name = "b" * 250
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", (f"{name}.jpg", photo(1)))])
    client.post(f"/api/v1/projects/{project}/photos/masks", files=[("files", (f"{name}.png", mask()))])
    assert client.get(f"/api/v1/projects/{project}/photos").json()[0]["masked"]
    # one that is no picture is refused, and the one that is there stays
    broken = [("files", (f"{name}.png", mask()[:60]))]
    assert (
        "PNG"
        in client.post(f"/api/v1/projects/{project}/photos/masks", files=broken).json()["refused"][0]["why"]["text"]
    )
    assert client.get(f"/api/v1/projects/{project}/photos").json()[0]["masked"]


def test_masks_that_fit_nothing_are_told_when_they_are_brought_in(client: TestClient) -> None:
    project = new_project(client)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("one.jpg", photo(1)))])
    brought = [("files", (name, mask())) for name in ("one.png", "other.png", "strange.png")]
    answer = client.post(f"/api/v1/projects/{project}/photos/masks", files=brought).json()
    assert answer["refused"] == []
    (remark,) = answer["remarks"]
    assert remark["text"].startswith("other.png, strange.png belong to no photo")
    lone = client.post(f"/api/v1/projects/{project}/photos/masks", files=[("files", ("one.png", mask()))]).json()
    assert lone["remarks"] == []


def test_too_many_in_one_request_is_refused_as_a_whole(client: TestClient) -> None:
    project = new_project(client)
    files = [("files", (f"{k}.jpg", b"x")) for k in range(1001)]
    answer = client.post(f"/api/v1/projects/{project}/photos", files=files)
    assert answer.status_code == 400
    assert "1000" in answer.json()["detail"]
    assert client.get(f"/api/v1/projects/{project}/photos").json() == []


def test_a_folder_with_other_files_in_it(client: TestClient) -> None:
    project = new_project(client)
    files = [
        ("files", ("walk/one.jpg", photo(1))), ("files", ("walk/notes.txt", b"hello")), ("files", ("walk/.DS_Store", b"x")),
        ("files", ("walk/Thumbs.db", b"x")), ("files", ("../../etc/two.jpg", photo(2))), ("files", ("walk/empty.jpg", b"")),
    ]  # fmt: skip
    answer = client.post(f"/api/v1/projects/{project}/photos", files=files).json()
    assert answer["taken"] == ["walk/one.jpg", "etc/two.jpg", "walk/empty.jpg"]
    assert len(answer["refused"]) == 3
    assert all("not a kind of picture" in r["why"]["text"] for r in answer["refused"])
    listed = {p["path"]: p for p in client.get(f"/api/v1/projects/{project}/photos").json()}
    assert listed["walk/empty.jpg"]["problem"]
    assert listed["walk/one.jpg"]["problem"] is None


def test_a_full_disk_is_said_and_nothing_is_left_half(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    project = new_project(client)
    assert client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("a.jpg", photo(1)))]).status_code == 201

    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(arrivals, "sync", full)
    answer = TestClient(client.app, "http://127.0.0.1", raise_server_exceptions=False).post(
        f"/api/v1/projects/{project}/photos", files=[("files", ("b.jpg", photo(2)))]
    )
    assert answer.status_code == 507
    assert answer.json()["detail"] == "The disk is full. Free some space and try again."
    monkeypatch.undo()
    assert [p["path"] for p in client.get(f"/api/v1/projects/{project}/photos").json()] == ["a.jpg"]
    photos = folders_of(client.app.state.data, project).photos  # type: ignore[attr-defined]
    assert [p.name for p in photos.rglob("*")] == ["a.jpg"]


def test_a_project_removed_while_its_job_runs(
    client: TestClient, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    project = new_project(client)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", (f"{k}.jpg", photo(k))) for k in range(3)])
    client.post(f"/api/v1/projects/{project}/layers/photos/run")
    other = new_project(client)
    client.post(f"/api/v1/projects/{other}/photos", files=[("files", (f"{k}.jpg", photo(k))) for k in range(3)])
    job = client.post(f"/api/v1/projects/{other}/layers/photos/run").json()
    real, answers, made = PhotosStep.run, [], []

    def removed_meanwhile(self: PhotosStep, context: Context) -> dict:
        """The photos have been read, and before that is a version somebody removes the project."""
        monkeypatch.setattr(PhotosStep, "run", real)
        figures = real(self, context)
        made.extend(context.folder.iterdir())
        removing = threading.Thread(target=lambda: answers.append(client.delete(f"/api/v1/projects/{project}")))
        removing.start()
        with Session(client.app.state.engine) as session:  # type: ignore[attr-defined]
            wait_for("cancel", 20, lambda: bool(session.exec(select(Job).where(Job.cancel)).first()))
        assert removing.is_alive()  # it waits until nobody is at work in the project's folder
        assert context.folder.is_dir()
        return figures

    monkeypatch.setattr(PhotosStep, "run", removed_meanwhile)
    work(tmp_path, once=True)
    wait_for("removal", 20, lambda: bool(answers))
    assert made, "the work had begun"
    assert answers[0].status_code == 204
    assert not folders_of(tmp_path, project).root.exists()
    states = {j["id"]: j["state"] for j in client.get("/api/v1/jobs").json()}
    assert states == {job["id"]: "done"}  # the removed project's job is gone, the other one was run
    assert client.get(f"/api/v1/projects/{project}/photos").status_code == 404


def test_two_pages_hear_of_each_others_changes(client: TestClient) -> None:
    project = str(new_project(client))
    revisions = client.app.state.revisions  # type: ignore[attr-defined]
    client.get(f"/api/v1/projects/{project}/photos")
    assert project not in revisions
    client.patch(f"/api/v1/projects/{project}", json={"grade": "polished"})
    assert revisions[project] == {"project": 1}
    client.patch(f"/api/v1/projects/{project}", json={"grade": "no such grade"})
    assert revisions[project] == {"project": 1}
    client.patch(f"/api/v1/projects/{project}/photos", json={"paths": ["a.jpg"], "kept": False})
    assert revisions[project] == {"project": 1, "photos": 1}


def test_a_job_that_takes_the_worker_down_again_and_again_is_given_up(client: TestClient) -> None:
    project = new_project(client)
    engine = client.app.state.engine  # type: ignore[attr-defined]
    with Session(engine) as session:
        job = jobs.add_job(session, project, "run", {"layer": "photos"})
        for _ in range(jobs.TRIES):
            # the machine is started again meanwhile: that is not the job's doing
            for _ in range(5):
                assert jobs.next_job(session).id == job.id  # type: ignore[union-attr]
                jobs.requeue_lost(session)
                session.refresh(job)
                assert job.state == "queued"
            assert jobs.next_job(session) is not None
            jobs.note_death(session, "light")  # no doing of this job
            jobs.note_death(session, "run")
            jobs.requeue_lost(session)
            session.refresh(job)
        assert job.state == "failed"
        assert "several times" in job.message
        assert "memory" in job.message


@pytest.fixture
def keeper(client: TestClient, tmp_path: Path) -> Iterator[Keeper]:
    k = Keeper(client.app.state.engine, tmp_path)  # type: ignore[attr-defined]
    yield k
    k.close()


def test_a_worker_that_hangs_is_ended_by_cancel_and_those_of_other_lanes_go_on(
    client: TestClient, keeper: Keeper, tmp_path: Path
) -> None:
    project = new_project(client)
    engine = client.app.state.engine  # type: ignore[attr-defined]

    def state(number: int) -> str:
        with Session(engine) as session:
            job = session.get(Job, number)
            return job.state if job else "gone"

    # a shoot is long enough to be caught at work
    plan = {"pixels_wide": 320, "pixels_high": 240}
    job = client.post(f"/api/v1/projects/{project}/plan/shoot", json={"scene": "milestone", "plan": plan})
    assert job.status_code == 202, job.text
    wait_for("start", 60, lambda: state(job.json()["id"]) == "running")
    first = keeper.workers["shoot"]
    # a job of another lane, which goes on whatever becomes of this one
    source = tmp_path / "shots"
    source.mkdir()
    (source / "1.jpg").write_bytes(photo(1))
    client.post(f"/api/v1/projects/{project}/photos/from-path", json={"path": str(source)})
    wait_for("the other lane", 60, lambda: "light" in keeper.workers)
    other = keeper.workers["light"]
    os.kill(first, signal.SIGSTOP)  # it hears nothing any more
    client.post(f"/api/v1/jobs/{job.json()['id']}/cancel")
    wait_for("cancel", 30, lambda: state(job.json()["id"]) == "cancelled")
    assert keeper.workers.get("shoot") != first
    assert keeper.workers["light"] == other
    assert psutil.pid_exists(other)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", (f"{k}.jpg", photo(k))) for k in range(3)])
    after = client.post(f"/api/v1/projects/{project}/layers/photos/run").json()
    wait_for("the next job", 60, lambda: state(after["id"]) == "done")


def test_tiles_make_up_the_photo(client: TestClient) -> None:
    project = new_project(client)
    w, h = 2501, 1300
    ramp = np.zeros((h, w, 3), np.uint8)
    ramp[..., 0] = np.linspace(0, 255, w)[None].astype(np.uint8)
    ramp[..., 1] = np.linspace(0, 255, h)[:, None].astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(ramp).save(out, "PNG")
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("wide.png", out.getvalue()))])
    assert tiles.levels_of(w, h) == 2
    for level in range(2):
        lw, lh = -(-w // 2**level), -(-h // 2**level)
        whole = np.zeros((lh, lw, 3), np.uint8)
        for y in range(-(-lh // tiles.SIDE)):
            for x in range(-(-lw // tiles.SIDE)):
                query = {"path": "wide.png", "level": level, "x": x, "y": y}
                answer = client.get(f"/api/v1/projects/{project}/photos/tile", params=query)
                tile = np.asarray(Image.open(io.BytesIO(answer.content)))
                whole[y * 512 : y * 512 + tile.shape[0], x * 512 : x * 512 + tile.shape[1]] = tile
        want = np.asarray(Image.fromarray(ramp).resize((lw, lh), Image.Resampling.BOX)).astype(int)
        assert np.abs(whole.astype(int) - want).max() <= 8  # JPEG noise
    query = {"path": "wide.png", "level": 0, "x": 9, "y": 0}
    assert client.get(f"/api/v1/projects/{project}/photos/tile", params=query).status_code == 404


def test_changes_of_different_things_at_once_all_stand(tmp_path: Path) -> None:
    """Twelve photos left out, a name, a grade and settings of two layers, each by a request of its own, at the same moment."""
    app = make_app(tmp_path)
    client = TestClient(app, "http://127.0.0.1")
    project = new_project(client)
    where = f"/api/v1/projects/{project}"
    paths = [f"{k}.jpg" for k in range(12)]
    asked = [("patch", f"{where}/photos", {"paths": [p], "kept": False}) for p in paths] + [
        ("patch", where, {"name": "Changed"}), ("patch", where, {"grade": "polished"}),
        ("put", f"{where}/layers/surface/settings", {"faces": 5000}), ("put", f"{where}/layers/points/settings", {"sources": 5}),
    ]  # fmt: skip
    with ThreadPoolExecutor(len(asked)) as several:
        answers = list(several.map(lambda a: client.request(a[0], a[1], json=a[2]).status_code, asked))
    assert set(answers) == {200}
    with Session(app.state.engine) as session:
        row = session.get(Project, project)
        assert row is not None
        assert row.left_out == sorted(paths)
        assert (row.name, row.grade) == ("Changed", "polished")
        assert row.settings == {"surface": {"faces": 5000}, "points": {"sources": 5}}


def test_the_same_run_asked_for_at_once_is_one_job(client: TestClient) -> None:
    project = new_project(client)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("1.jpg", photo(1)))])
    with ThreadPoolExecutor(6) as several:
        ids = list(
            several.map(lambda _: client.post(f"/api/v1/projects/{project}/layers/photos/run").json()["id"], range(6))
        )
    assert len(set(ids)) == 1


def test_pictures_that_hang_hold_up_nothing_else(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    """More thumbnails than the server has threads wait for a disk; jobs are told of as ever."""
    project = new_project(client)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("1.jpg", photo(1)))])
    thumb = pictures.thumbnail(folders_of(client.app.state.data, project), "1.jpg", 240)  # type: ignore[attr-defined]
    go_on, begun = threading.Event(), threading.Event()

    def hanging(*_: object) -> Path:
        begun.set()
        go_on.wait(120)
        return thumb

    monkeypatch.setattr(pictures, "thumbnail", hanging)
    with client, ThreadPoolExecutor(46) as several:
        where = f"/api/v1/projects/{project}/photos/thumb"
        waiting = [several.submit(client.get, where, params={"path": "1.jpg"}) for _ in range(45)]
        assert begun.wait(60)
        assert several.submit(client.get, "/api/v1/jobs").result(60).status_code == 200
        assert not any(w.done() for w in waiting)
        go_on.set()
        assert {w.result(60).status_code for w in waiting} == {200}
    assert thumb.exists()


def test_a_file_that_was_slow_once_is_read_again(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    project = new_project(client)
    client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("1.jpg", photo(1)))])
    real = pictures.read_facts

    def slow(*_: object) -> None:
        raise Slow("takes longer than 15 s to read")

    monkeypatch.setattr(pictures, "read_facts", slow)
    where = f"/api/v1/projects/{project}/photos"
    assert "takes longer" in client.get(where).json()[0]["problem"]["text"]
    monkeypatch.setattr(pictures, "read_facts", real)
    assert client.get(where).json()[0]["problem"] is None
