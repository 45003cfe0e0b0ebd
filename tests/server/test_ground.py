"""The ground: one owner, versions whole or not there, numbers that never come again, nobody from elsewhere."""

from __future__ import annotations

import json
import os
import signal
import socket
import sqlite3
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import httpx
import psutil
import pytest
from alembic import command
from alembic.config import Config
from fastapi.testclient import TestClient
from sqlalchemy.orm.exc import StaleDataError
from sqlmodel import Session
from tests.server.test_troubles import new_project, photo, wait_for

import vast_quarry.server.database as database
from vast_quarry.core.errors import PlainError
from vast_quarry.server.app import make_app
from vast_quarry.server.models import Job, Project
from vast_quarry.server.services import jobs
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.services.sizes import trim_cache
from vast_quarry.server.worker import work


@pytest.fixture
def client(tmp_path: Path) -> TestClient:
    return TestClient(make_app(tmp_path), "http://127.0.0.1")


def free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


@contextmanager
def serving(data: Path) -> Iterator[tuple[subprocess.Popen[str], httpx.Client]]:
    """A real server with its worker, ended by force."""
    port = free_port()
    command_line = [sys.executable, "-m", "vast_quarry.cli.main", "serve", "--data", str(data), "--port", str(port)]
    process = subprocess.Popen(command_line, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    try:
        with httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=30, trust_env=False) as http:

            def answers() -> bool:
                assert process.poll() is None, process.stdout.read()  # type: ignore[union-attr]
                try:
                    return http.get("/api/v1/health").status_code == 200
                except httpx.TransportError:
                    return False

            wait_for("the server", 60, answers)
            yield process, http
    finally:
        helpers = psutil.Process(process.pid).children(recursive=True) if process.poll() is None else []
        process.kill()
        process.wait()
        psutil.wait_procs(helpers, timeout=20)


def fill(http: httpx.Client | TestClient, count: int = 3) -> int:
    project = int(http.post("/api/v1/projects", json={"name": "Well-head", "grade": "rough"}).json()["id"])
    files = [("files", (f"{k}.jpg", photo(k))) for k in range(count)]
    assert http.post(f"/api/v1/projects/{project}/photos", files=files).status_code == 201
    return project


def test_a_second_server_says_who_has_the_folder_and_a_killed_one_takes_its_worker_with_it(tmp_path: Path) -> None:
    with serving(tmp_path) as (first, http):
        project = int(http.post("/api/v1/projects", json={"name": "A"}).json()["id"])
        second = subprocess.run(
            [sys.executable, "-m", "vast_quarry.cli.main", "serve", "--data", str(tmp_path), "--port", str(free_port())],
            capture_output=True, text=True, timeout=120,
        )  # fmt: skip
        assert second.returncode == 1
        assert len(second.stderr.strip().splitlines()) == 1
        assert str(first.pid) in second.stderr
        assert str(http.base_url).rstrip("/") in second.stderr
        # a shoot is long enough to be caught at work
        plan = {"pixels_wide": 320, "pixels_high": 240}
        job = http.post(f"/api/v1/projects/{project}/plan/shoot", json={"scene": "milestone", "plan": plan}).json()

        def state(number: int) -> str:
            return str(next(j for j in http.get("/api/v1/jobs").json() if j["id"] == number)["state"])

        wait_for("start", 60, lambda: state(job["id"]) == "running")
        wait_for("photos", 90, lambda: len(http.get(f"/api/v1/projects/{project}/photos").json()) > 0)
        workers = psutil.Process(first.pid).children(recursive=True)
        assert len(workers) >= 2  # the worker, and the rig it has started
        os.kill(first.pid, signal.SIGKILL)
        _, alive = psutil.wait_procs(workers, timeout=20)
        assert not [p.cmdline() for p in alive]
    with serving(tmp_path) as (_, http):

        def log() -> list[str]:
            row = next(j for j in http.get("/api/v1/jobs").json() if j["id"] == job["id"])
            return [line["text"] for line in row["log"]]

        wait_for("going on", 60, lambda: jobs.LOST in log() and log()[-1] != jobs.LOST)
        assert http.post(f"/api/v1/jobs/{job['id']}/cancel").status_code == 200
        wait_for("stop", 60, lambda: state(job["id"]) == "cancelled")
    assert "worker" in (tmp_path / "logs" / "worker.log").read_text()


def test_only_loopback_is_listened_at(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "vast_quarry.cli.main", "serve", "--data", str(tmp_path), "--host", "0.0.0.0"],
        capture_output=True, text=True, timeout=120,
    )  # fmt: skip
    assert done.returncode == 1
    assert "0.0.0.0" in done.stderr
    assert "Traceback" not in done.stderr


def test_one_job_is_never_taken_twice(client: TestClient) -> None:
    project = new_project(client)
    engine = client.app.state.engine  # type: ignore[attr-defined]
    with Session(engine) as session:
        wanted = {jobs.add_job(session, project, "look", {"name": f"{k}.mp4"}).id for k in range(40)}
    taken: list[int | None] = []

    def take() -> None:
        while True:
            with Session(engine) as session:
                job = jobs.next_job(session)
            if job is None:
                return
            taken.append(job.id)

    threads = [threading.Thread(target=take) for _ in range(4)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert len(taken) == 40
    assert set(taken) == wanted


def test_lanes_do_not_wait_for_each_other_and_projects_take_turns(client: TestClient) -> None:
    a, b = new_project(client), new_project(client)
    with Session(client.app.state.engine) as session:  # type: ignore[attr-defined]
        first = [jobs.add_job(session, a, "run", {"layer": "photos", "n": k}).id for k in range(3)]
        other = jobs.add_job(session, b, "run", {"layer": "photos"}).id
        light = jobs.add_job(session, b, "judge", {}).id
        shoots = [jobs.add_job(session, p, "shoot", {}).id for p in (a, b)]
        later = jobs.add_job(session, a, "shoot", {}).id  # it waits for the shoot of its own project
        one = jobs.next_job(session)
        assert one is not None
        assert one.id == first[0]
        got = [jobs.next_job(session, busy={"run"}) for _ in range(3)]
        assert {j.id for j in got if j} == {light, *shoots}
        assert jobs.next_job(session, busy={"run", "light"}) is None
        done = next(j for j in got if j and j.id == shoots[0])
        done.state = "done"
        session.add(done)
        session.commit()
        next_shoot = jobs.next_job(session, busy={"run", "light"})
        assert next_shoot is not None
        assert next_shoot.id == later
        # the first one is done: now the other project is served before the second of this one
        one.state = "done"
        session.add(one)
        session.commit()
        after = jobs.next_job(session)
        assert after is not None
        assert after.id == other


def test_a_first_look_changes_no_setting(client: TestClient, tmp_path: Path) -> None:
    project = fill(client)
    usual = client.post(f"/api/v1/projects/{project}/layers/points/run").json()["id"]
    first = client.post(f"/api/v1/projects/{project}/layers/points/run?first_look=true").json()["id"]
    assert first != usual
    with Session(client.app.state.engine) as session:  # type: ignore[attr-defined]
        wanted = [session.get(Job, k).params["recipe"]["layers"].get("points", {}) for k in (usual, first)]  # type: ignore[union-attr]
    assert "made_from" not in wanted[0]
    assert wanted[1]["made_from"] == "sparse"
    now = client.get(f"/api/v1/projects/{project}/layers").json()
    settings = next(x["settings"] for x in now if x["layer"] == "points")
    assert next(x for x in settings if x["name"] == "made_from")["value"] == "depth"


def test_a_job_keeps_the_settings_it_was_queued_with(client: TestClient, tmp_path: Path) -> None:
    project = fill(client)
    job = client.post(f"/api/v1/projects/{project}/layers/photos/run").json()
    client.patch(f"/api/v1/projects/{project}/photos", json={"paths": ["1.jpg"], "kept": False})
    again = client.post(f"/api/v1/projects/{project}/layers/photos/run").json()
    assert again["id"] != job["id"]  # other settings: another job
    assert client.post(f"/api/v1/projects/{project}/layers/photos/run").json()["id"] == again["id"]
    work(tmp_path, once=True)
    versions = {v.number: v for v in folders_of(tmp_path, project).store.versions("photos")}
    assert versions[1].figures["usable"] == 3
    assert versions[2].figures["usable"] == 2


def test_numbers_never_come_again(client: TestClient) -> None:
    first = fill(client)
    job = client.post(f"/api/v1/projects/{first}/layers/photos/run").json()["id"]
    assert client.delete(f"/api/v1/projects/{first}").status_code == 204
    second = fill(client)
    assert second > first
    assert client.post(f"/api/v1/projects/{second}/layers/photos/run").json()["id"] > job


def test_what_cannot_be_deleted_is_told(client: TestClient, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    project = fill(client)
    real = os.unlink

    def stuck(path: object, *more: object, **named: object) -> None:
        if str(path).endswith("1.jpg"):
            raise PermissionError(13, "Permission denied")
        real(path, *more, **named)  # type: ignore[arg-type]

    monkeypatch.setattr(os, "unlink", stuck)
    answer = client.delete(f"/api/v1/projects/{project}")
    assert answer.status_code == 422
    assert "1.jpg" in answer.json()["detail"]
    assert str(folders_of(tmp_path, project).root) in answer.json()["detail"]
    assert client.get("/api/v1/projects").json() == []


def test_a_database_of_an_earlier_version_keeps_what_it_holds(tmp_path: Path) -> None:
    config = Config()
    config.set_main_option("script_location", str(Path(database.__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", database.database_url(tmp_path))
    command.upgrade(config, "0003")
    file = tmp_path / database.NAME
    with closing(sqlite3.connect(file)) as c:
        c.execute(
            "INSERT INTO project VALUES (7, 'Gatepost', '2026-01-01', 'rough', '{\"points\": {\"keep\": 3}}', '{}', '[\"a.jpg\"]', '[]', 0)"
        )
        c.execute(
            "INSERT INTO job (id, project_id, kind, params, state, layer, stage, done, total, message, log, cancel, made, pause)"
            " VALUES (12, 7, 'run', '{}', 'done', 'photos', '', 1, 1, '', '[]', 0, '2026-01-01', 0)"
        )
        # left by a migration that was killed
        c.execute("CREATE TABLE _alembic_tmp_project (id INTEGER)")
        c.commit()
    client = TestClient(make_app(tmp_path), "http://127.0.0.1")
    with Session(client.app.state.engine) as session:  # type: ignore[attr-defined]
        project = session.get(Project, 7)
        assert project is not None
        assert (project.name, project.left_out, project.settings) == ("Gatepost", ["a.jpg"], {"points": {"keep": 3}})
        job = session.get(Job, 12)
        assert job is not None
        assert job.deaths == 0
    assert new_project(client) == 8
    with closing(sqlite3.connect(tmp_path / "before-0003.sqlite")) as c:
        assert c.execute("SELECT name FROM project").fetchall() == [("Gatepost",)]


def test_a_database_that_is_damaged_or_too_new_is_left_as_it_is(tmp_path: Path) -> None:
    file = tmp_path / database.NAME
    file.write_bytes(b"no database at all, but long enough to be looked at" * 40)
    before = file.read_bytes()
    with pytest.raises(PlainError, match="damaged"):
        database.open_database(tmp_path)
    assert file.read_bytes() == before
    file.unlink()
    database.open_database(tmp_path).dispose()
    with closing(sqlite3.connect(file)) as c:
        c.execute("UPDATE alembic_version SET version_num = '9999'")
        c.commit()
    with pytest.raises(PlainError, match="later version"):
        database.open_database(tmp_path)


def test_who_writes_over_what_another_wrote_is_told(client: TestClient) -> None:
    number = new_project(client)
    engine = client.app.state.engine  # type: ignore[attr-defined]
    with Session(engine) as one, Session(engine) as two:
        mine, theirs = one.get(Project, number), two.get(Project, number)
        assert mine is not None
        assert theirs is not None
        mine.left_out = ["a.jpg"]
        one.add(mine)
        one.commit()
        theirs.left_out = ["b.jpg"]
        two.add(theirs)
        with pytest.raises(StaleDataError):
            two.commit()


@pytest.mark.parametrize("name", ["sets.json", "decided.json", "shots.json", "versions/in-use.json"])
def test_a_file_of_decisions_that_cannot_be_read_is_told_and_never_written_over(
    client: TestClient, tmp_path: Path, name: str
) -> None:
    project = fill(client)
    client.post(f"/api/v1/projects/{project}/layers/photos/run")
    work(tmp_path, once=True)
    client.put(f"/api/v1/projects/{project}/photos/set", json={"paths": ["1.jpg"], "name": "north"})
    client.patch(f"/api/v1/projects/{project}/photos", json={"paths": ["1.jpg"], "kept": False})
    root = folders_of(tmp_path, project).root
    (root / "shots.json").write_text("{}")
    file = root / name
    cut = file.read_bytes()[:-1] + b"\x00"
    file.write_bytes(cut)
    answers = [
        client.get(f"/api/v1/projects/{project}/photos"),
        client.put(f"/api/v1/projects/{project}/photos/set", json={"paths": ["2.jpg"], "name": "south"}),
        client.patch(f"/api/v1/projects/{project}/photos", json={"paths": ["2.jpg"], "kept": False}),
        client.post(f"/api/v1/projects/{project}/layers/photos/use", json={"number": 1}),
        client.get(f"/api/v1/projects/{project}/layers"),
    ]
    told = [a for a in answers if a.status_code >= 400]
    assert told
    assert all(str(file) in a.json()["detail"] for a in told)
    assert all(a.status_code < 500 for a in answers)
    assert file.read_bytes() == cut


HOSTILE = [
    {"Host": "quarry.example"},
    {"Host": "127.0.0.1.example"},
    {"Host": "192.168.0.7"},
    {"Host": "[::1"},
    {"Origin": "http://elsewhere.example"},
    {"Origin": "null"},
    {"Origin": "http://127.0.0.1:3000"},
    {"Sec-Fetch-Site": "cross-site"},
    {"Sec-Fetch-Site": "same-site"},
]


@pytest.mark.parametrize("headers", HOSTILE, ids=lambda h: "-".join(h.values()))
def test_requests_from_elsewhere_are_refused(client: TestClient, headers: dict[str, str]) -> None:
    project = new_project(client)
    for method, path in (
        ("GET", "/api/v1/projects"),
        ("POST", "/api/v1/projects"),
        ("DELETE", f"/api/v1/projects/{project}"),
    ):
        assert client.request(method, path, json={"name": "theirs"}, headers=headers).status_code == 403
    form = client.post(
        f"/api/v1/projects/{project}/photos",
        files=[("files", ("a.jpg", photo()))],
        headers=headers | {"Content-Type": "multipart/form-data; boundary=x"},
    )
    assert form.status_code == 403
    assert [p["name"] for p in client.get("/api/v1/projects").json()] == ["Well-head"]
    assert client.get(f"/api/v1/projects/{project}/photos").json() == []


def test_the_page_of_this_application_is_answered(client: TestClient) -> None:
    for host in ("127.0.0.1:8765", "localhost:8765", "[::1]:8765"):
        own = {"Host": host, "Origin": f"http://{host}", "Sec-Fetch-Site": "same-origin"}
        answer = client.get("/api/v1/projects", headers=own)
        assert answer.status_code == 200
        assert "frame-ancestors 'none'" in answer.headers["Content-Security-Policy"]
        assert answer.headers["X-Content-Type-Options"] == "nosniff"
    # a link from another page opens the application, but its data are not to be embedded
    assert client.get("/", headers={"Sec-Fetch-Site": "cross-site"}).status_code != 403
    assert "swagger" not in client.get("/api/v1/docs").text


def test_a_mistake_of_ours_is_told_plainly_and_logged(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from vast_quarry.server.log import log_file, write_log
    from vast_quarry.server.routers import projects

    write_log(tmp_path, "server")
    client = TestClient(make_app(tmp_path), "http://127.0.0.1", raise_server_exceptions=False)

    def breaks(*_: object) -> None:
        raise ZeroDivisionError("made up")

    monkeypatch.setattr(projects, "_out", breaks)
    new_project_answer = client.post("/api/v1/projects", json={"name": "x"})
    assert new_project_answer.status_code == 500
    assert "Traceback" not in new_project_answer.text
    assert str(log_file(tmp_path, "server")) in new_project_answer.json()["detail"]
    text = log_file(tmp_path, "server").read_text()
    assert "made up" in text
    assert "Traceback" in text


def test_one_photo_sent_twice_at_once_is_kept_under_two_names(client: TestClient) -> None:
    project = new_project(client)
    bodies = [photo(k) for k in range(8)]
    threads = [
        threading.Thread(
            target=lambda b=b: client.post(f"/api/v1/projects/{project}/photos", files=[("files", ("one.jpg", b))])  # type: ignore[misc]
        )
        for b in bodies
    ]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    root = folders_of(client.app.state.data, project).photos  # type: ignore[attr-defined]
    assert sorted(p.read_bytes() for p in root.iterdir()) == sorted(bodies)


def test_json_of_the_events_does_not_carry_recipes(client: TestClient) -> None:
    project = fill(client)
    job = client.post(f"/api/v1/projects/{project}/layers/photos/run").json()
    assert job["until"] == "photos"
    assert "recipe" not in json.dumps(job)


def test_documents_of_another_version_are_read_as_far_as_they_fit_and_it_is_said(
    client: TestClient, tmp_path: Path
) -> None:
    """Settings, a plan and judgements that this version does not know: no page breaks, nothing is lost, and it is told."""
    project = fill(client)
    root = folders_of(tmp_path, project).root
    with Session(client.app.state.engine) as session:  # type: ignore[attr-defined]
        row = session.get(Project, project)
        assert row is not None
        row.settings = {"points": {"keep": 3, "glitter": 7}, "polish": {"shine": 1}}
        row.plan = {"height": 0.4, "shape": "dodecahedron", "perfume": "rose", "total": 9}
        session.add(row)
        session.commit()
    (root / "judged.json").write_text(
        json.dumps(
            {
                "photos": [
                    {
                        "photo": "1.jpg",
                        "tag": f"{(s := (root / 'photos' / '1.jpg').stat()).st_size}|{s.st_mtime_ns}",
                        "verdict": 3,
                    }
                ]
            }
        )
    )
    for path in ("photos", "layers", "plan", "draft", "videos"):
        assert client.get(f"/api/v1/projects/{project}/{path}").status_code < 405, path
    assert client.get(f"/api/v1/projects/{project}/photos").json()[1]["judged"] is None
    assert client.get(f"/api/v1/projects/{project}/plan").json()["height"] == 0.4
    said = client.get(f"/api/v1/projects/{project}/plan/remarks").json()
    assert len(said) == 1
    assert "perfume, shape" in said[0]["text"]
    kept = json.loads((root / "plan-of-before.json").read_text())
    assert kept["perfume"] == "rose"
    job = client.post(f"/api/v1/projects/{project}/layers/photos/run").json()
    work(tmp_path, once=True)
    done = next(j for j in client.get("/api/v1/jobs").json() if j["id"] == job["id"])
    assert done["state"] == "done"
    log = "\n".join(line["text"] for line in done["log"])
    assert "points.glitter" in log
    assert "polish.shine" in log
    with Session(client.app.state.engine) as session:  # type: ignore[attr-defined]
        row = session.get(Project, project)
        assert row is not None
        assert row.settings["points"]["glitter"] == 7  # what another version wrote stays for it


def test_what_is_made_again_is_bounded_and_can_be_freed(client: TestClient, tmp_path: Path) -> None:
    project = fill(client)
    folders = folders_of(tmp_path, project)
    for k in range(5):
        (folders.cache / f"parcel-{k}").mkdir()
        file = folders.cache / f"parcel-{k}" / "model.glb"
        file.write_bytes(b"x" * 1000)
        os.utime(folders.cache / f"parcel-{k}", (k, k))
    (folders.cache / "video-a").mkdir()
    (folders.cache / "video-a" / "scan.npz").write_bytes(b"x" * 5000)
    told = client.get(f"/api/v1/projects/{project}").json()
    assert told["cache_bytes"] == 5000
    assert told["bytes"] >= 10_000
    assert trim_cache(folders, 2500) == 3000
    assert sorted(p.name for p in folders.cache.iterdir()) == ["parcel-3", "parcel-4", "video-a"]
    assert client.post(f"/api/v1/projects/{project}/space/free", json={"what": ["cache"]}).json() == 2000
    assert [p.name for p in folders.cache.iterdir()] == ["video-a"]
    assert client.get(f"/api/v1/projects/{project}/photos/thumb", params={"path": "1.jpg"}).status_code == 200


def test_a_version_says_how_large_it_is(client: TestClient, tmp_path: Path) -> None:
    project = fill(client)
    before = client.get(f"/api/v1/projects/{project}").json()["bytes"]
    client.post(f"/api/v1/projects/{project}/layers/photos/run")
    work(tmp_path, once=True)
    version = folders_of(tmp_path, project).store.versions("photos")[0]
    assert version.files
    assert client.get(f"/api/v1/projects/{project}").json()["bytes"] - before == sum(version.files.values())
