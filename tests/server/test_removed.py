"""What is removed can be brought back, what was done to photos can be taken back, and what could go is told."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from sqlmodel import Session, select
from tests.conftest import SMALL

from vast_quarry.pipeline.store import Store
from vast_quarry.server.app import make_app
from vast_quarry.server.models import HistoryStep, Project
from vast_quarry.server.services import trash
from vast_quarry.server.services.archives import pack_project, unpack_project
from vast_quarry.server.services.folders import folders_of

P = "/api/v1/projects/1"
ONE, TWO = "milestone_001.jpg", "milestone_002.jpg"


def paths(client: TestClient) -> list[str]:
    return [p["path"] for p in client.get(f"{P}/photos").json()]


def states(client: TestClient) -> dict[str, str]:
    return {x["layer"]: x["state"] for x in client.get(f"{P}/layers").json()}


def test_removed_photos_come_back_with_all_that_hangs_on_them(client: TestClient, data: Path) -> None:
    before = (data / "projects/1/photos" / ONE).read_bytes()
    size = client.get(P).json()["bytes"]
    client.patch(f"{P}/photos", json={"paths": [ONE], "kept": False})
    removed = client.post(f"{P}/photos/remove", json={"paths": [ONE, TWO]}).json()
    assert (removed["kind"], removed["names"]) == ("photos", [ONE, TWO])
    assert removed["bytes"] > len(before)
    # until the trash is emptied it is on the disk as before, and said so
    assert client.get(P).json()["bytes"] >= size
    assert len(paths(client)) == 22
    assert states(client)["cameras"] == "out of date"
    assert client.get(f"{P}/trash").json()["bytes"] == removed["bytes"]
    back = client.post(f"{P}/history/photos/undo").json()
    assert (back["undo"], back["redo"], back["redo_says"]["text"]) == (1, 1, "2 photos removed")
    assert (data / "projects/1/photos" / ONE).read_bytes() == before
    assert not next(p for p in client.get(f"{P}/photos").json() if p["path"] == ONE)["kept"]
    assert client.get(f"{P}/trash").json()["items"] == []
    client.post(f"{P}/history/photos/redo")
    assert len(paths(client)) == 22
    assert client.post(f"{P}/history/photos/redo").json()["redo"] == 0


def test_a_photo_that_is_referred_to_stays_where_it_lies(client: TestClient, data: Path, tmp_path: Path) -> None:
    mine = tmp_path / "mine.jpg"
    Image.new("RGB", (80, 60), (9, 99, 9)).save(mine)
    (data / "projects/1/photos/mine.jpg").symlink_to(mine)
    client.post(f"{P}/photos/remove", json={"paths": ["mine.jpg"]})
    assert mine.exists()
    assert "mine.jpg" not in paths(client)
    assert client.delete(f"{P}/trash").json() < 1000
    assert mine.exists()


def test_nothing_is_written_over_when_something_is_brought_back(client: TestClient, data: Path) -> None:
    number = client.post(f"{P}/photos/remove", json={"paths": [ONE]}).json()["number"]
    other = data / "projects/1/photos" / ONE
    other.write_bytes(b"another one")
    refused = client.post(f"{P}/trash/{number}/bring-back")
    assert refused.status_code == 422
    assert refused.json()["code"] == "something-else-is-called-by"
    assert other.read_bytes() == b"another one"
    other.unlink()
    assert client.post(f"{P}/trash/{number}/bring-back").status_code == 200
    assert client.post(f"{P}/trash/{number}/bring-back").status_code == 404
    assert other.stat().st_size > 1000


@pytest.mark.parametrize("path", ["../../secret", "no-such.jpg", "photos/../../1/photos/milestone_001.jpg", ""])
def test_only_photos_of_the_project_are_removed(client: TestClient, path: str) -> None:
    refused = client.post(f"{P}/photos/remove", json={"paths": [ONE, path]})
    assert refused.status_code == 404
    assert len(paths(client)) == 24


def test_a_kill_between_two_files_loses_nothing(
    client: TestClient, data: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    moves = 0
    real = trash.os.replace

    def killed(a: Any, b: Any) -> None:
        nonlocal moves
        moves += "trash" in str(b) and "item.json" not in str(b)
        if moves == 2:
            raise KeyboardInterrupt
        real(a, b)

    f = folders_of(data, 1)
    with monkeypatch.context() as patch:
        patch.setattr(trash.os, "replace", killed)
        with pytest.raises(KeyboardInterrupt):
            trash.put_away(f, "photos", [ONE, TWO], [f.photos / ONE, f.photos / TWO])
    assert len(paths(client)) == 23
    trash.bring_back(f, trash.trash_of(f).items[0].number)
    assert len(paths(client)) == 24


def test_what_lies_long_enough_in_the_trash_goes(client: TestClient, data: Path) -> None:
    f = folders_of(data, 1)
    numbers = [client.post(f"{P}/photos/remove", json={"paths": [p]}).json()["number"] for p in (ONE, TWO)]
    note = f.root / "trash" / str(numbers[0]) / "item.json"
    document = json.loads(note.read_text())
    note.write_text(json.dumps({**document, "removed": "2020-01-01T00:00:00.000+00:00"}))
    assert trash.empty_old(f) == document["bytes"]
    assert [i.number for i in trash.trash_of(f).items] == [numbers[1]]


def test_a_version_goes_with_what_was_made_from_it_and_comes_back(client: TestClient, data: Path) -> None:
    refused = client.delete(f"{P}/layers/points/versions/1")
    assert refused.status_code == 409
    assert refused.json()["code"] == "from-made"
    hanging = client.get(f"{P}/layers/points/versions/1/made-from-it").json()
    assert [v["layer"] for v in hanging] == ["surface", "texture"]
    assert all(v["bytes"] > 1000 for v in hanging)
    asked = {"with_what_was_made_from_it": True}
    removed = client.delete(f"{P}/layers/points/versions/1", params=asked).json()
    assert removed["names"] == ["points 1", "surface 1", "texture 1"]
    assert states(client)["texture"] == states(client)["points"] == "empty"
    assert states(client)["cameras"] == "ready"
    assert client.get(f"{P}/layers/texture/mesh").status_code == 404
    client.post(f"{P}/trash/{removed['number']}/bring-back")
    assert states(client)["texture"] == "ready"
    assert client.get(f"{P}/layers/texture/mesh").status_code == 200


def test_the_number_of_a_removed_version_is_not_given_again(data: Path) -> None:
    """Pictures in browsers, names and notes go by the number."""
    store = Store(data / "projects" / "1")
    store.never_again("texture")
    for k in (1, 2):
        key = f"{k:020d}"
        (store.partial("texture", key) / "model.txt").write_text("x")
        made = store.finish("texture", key, {}, {}, {}, [], 1.0)
        assert made.number == 1 + k
        store.never_again("texture")
        for file in store.folder(made).iterdir():
            file.unlink()
        store.folder(made).rmdir()


def test_an_open_draft_keeps_its_version(client: TestClient, data: Path) -> None:
    app: Any = client.app
    with Session(app.state.engine) as session:
        project = session.get_one(Project, 1)
        project.draft, project.draft_done, project.draft_on = [{"kind": "turn"}], 1, 1
        session.add(project)
        session.commit()
    refused = client.delete(f"{P}/layers/texture/versions/1")
    assert refused.json()["detail"] == "texture 1 has edits that are not kept yet. Keep them or throw them away first."
    assert states(client)["texture"] == "ready"


def test_versions_are_told_by_themselves(client: TestClient) -> None:
    one = client.get(f"{P}/layers/texture/versions/1").json()
    assert one["number"] == 1
    assert one["grade"] == "rough"
    assert one["bytes"] > 10_000
    assert one["changed"] == []
    points = client.get(f"{P}/layers/points/versions/1").json()
    assert {c["name"]: c["value"] for c in points["changed"]} == {
        k: v for k, v in SMALL["points"].items() if k != "sweeps"
    }
    assert all(c["title"] for c in points["changed"])
    named = client.patch(f"{P}/layers/texture/versions/1", json={"name": "For print", "note": "as *sent*"}).json()
    assert (named["name"], named["note"]) == ("For print", "as *sent*")
    (listed,) = client.get(f"{P}/layers/texture/versions").json()
    assert listed == named
    assert client.get(f"{P}/layers/texture/versions", params={"before": 1}).json() == []
    assert client.get(f"{P}/layers/texture/versions/7").status_code == 404
    assert client.patch(f"{P}/layers/texture/versions/1", json={"name": "a\u0007b"}).status_code == 422
    assert client.patch(f"{P}/layers/texture/versions/1", json={}).json()["name"] == ""


def test_what_could_go_is_told_and_goes(client: TestClient, data: Path) -> None:
    root = data / "projects" / "1"
    (root / "cache" / "thumb-x.jpg").write_bytes(b"x" * 5000)
    stopped = root / "versions" / "points" / "abc.partial"
    stopped.mkdir()
    (stopped / "depth").write_bytes(b"y" * 7000)
    key = "0" * 20
    store = Store(root)
    (store.partial("texture", key) / "old").write_bytes(b"z" * 9000)
    used = {v.number: v for v in store.versions("texture")}[1]
    idle = store.finish("texture", key, {}, {"surface": 1}, {}, [], 1.0)
    store.use(used)
    told = client.get(f"{P}/space").json()
    assert told["cache"] >= 5000
    assert (told["runs"], told["versions"], told["version_names"]) == (7000, 9000, [idle.name])
    assert client.post(f"{P}/space/free", json={"what": ["cache", "runs", "versions"]}).json() >= 12_000
    told = client.get(f"{P}/space").json()
    assert (told["cache"], told["runs"], told["versions"], told["trash"] > 9000) == (0, 0, 0, True)
    assert states(client)["texture"] == "ready"
    assert client.post(f"{P}/space/free", json={"what": ["trash"]}).json() == told["trash"]
    # with the trash goes what it noted of each thing
    assert 0 <= told["total"] - told["trash"] - client.get(f"{P}/space").json()["total"] < 1000


def test_what_is_done_to_photos_is_taken_back_step_by_step(client: TestClient) -> None:
    def out() -> list[str]:
        return [p["path"] for p in client.get(f"{P}/photos").json() if not p["kept"]]

    client.patch(f"{P}/photos", json={"paths": [ONE], "kept": False})
    client.put(f"{P}/photos/set", json={"paths": [ONE, TWO], "name": "upper ring"})
    client.put(f"{P}/photos/tone", json={"tone": {"brightness": 1.5}})
    client.patch(f"{P}/photos", json={"paths": [TWO], "kept": False})
    assert out() == [ONE, TWO]
    undo = lambda: client.post(f"{P}/history/photos/undo").json()  # noqa: E731
    assert undo()["redo_says"]["text"] == "1 photo left out"
    assert out() == [ONE]
    undo()
    assert client.get(f"{P}/photos/tone").json()["tone"]["brightness"] == 0
    undo()
    assert {p["set"] for p in client.get(f"{P}/photos").json()} == {None}
    assert undo()["undo"] == 0
    assert out() == []
    assert undo()["undo"] == 0
    for _ in range(4):
        client.post(f"{P}/history/photos/redo")
    assert out() == [ONE, TWO]
    assert client.get(f"{P}/photos/tone").json()["tone"]["brightness"] == 1.5
    assert {p["set"] for p in client.get(f"{P}/photos").json()} == {None, "upper ring"}
    # something new after a step back: what was taken back is gone
    undo()
    client.patch(f"{P}/photos", json={"paths": ["milestone_003.jpg"], "kept": False})
    assert client.get(f"{P}/history/photos").json()["redo"] == 0
    # nothing changed is no step
    before = client.get(f"{P}/history/photos").json()["undo"]
    client.patch(f"{P}/photos", json={"paths": ["milestone_003.jpg"], "kept": False})
    assert client.get(f"{P}/history/photos").json()["undo"] == before


def test_a_history_survives_a_restart_and_stays_within_bounds(client: TestClient, data: Path) -> None:
    for k in range(205):
        client.patch(f"{P}/photos", json={"paths": [ONE], "kept": bool(k % 2)})
    again = TestClient(make_app(data), "http://127.0.0.1")
    assert again.get(f"{P}/history/photos").json()["undo"] == 200
    assert again.post(f"{P}/history/photos/undo").json()["redo"] == 1
    app: Any = again.app
    assert again.delete(P).status_code == 204
    with Session(app.state.engine) as session:
        assert session.exec(select(HistoryStep)).all() == []


def test_a_step_whose_photos_are_gone_for_good_does_not_stand_in_the_way(client: TestClient) -> None:
    client.patch(f"{P}/photos", json={"paths": [TWO], "kept": False})
    client.post(f"{P}/photos/remove", json={"paths": [ONE]})
    client.delete(f"{P}/trash")
    refused = client.post(f"{P}/history/photos/undo")
    assert (refused.status_code, refused.json()["code"]) == (404, "what-this-step-moved-is")
    assert client.post(f"{P}/history/photos/undo").json()["undo"] == 0
    assert all(p["kept"] for p in client.get(f"{P}/photos").json())


def test_a_project_goes_into_an_archive_with_its_notes(client: TestClient, data: Path, tmp_path: Path) -> None:
    client.patch(P, json={"notes": "north side in shade"})
    client.patch(f"{P}/layers/texture/versions/1", json={"name": "For print"})
    pack_project(data, 1, tmp_path / "a.zip")
    number, _ = unpack_project(data, tmp_path / "a.zip")
    where = f"/api/v1/projects/{number}"
    assert client.get(where).json()["notes"] == "north side in shade"
    assert client.get(f"{where}/layers/texture/versions/1").json()["name"] == "For print"


@pytest.mark.parametrize("layer", ["masks", "points", "finish"])
def test_every_layer_that_is_edited_has_a_history(client: TestClient, layer: str) -> None:
    made = {
        "masks": lambda: client.post(f"{P}/masks/edits", json={"paths": [ONE], "edit": {"kind": "invert"}}),
        "points": lambda: client.post(
            f"{P}/points/draft", json={"terms": [{"kind": "turn-round", "how": "add"}], "keep": True}
        ),
        "finish": lambda: client.post(f"{P}/draft", json={"kind": "main-body"}),
    }[layer]()
    assert made.status_code < 300, made.text
    told = client.get(f"{P}/history/{layer}").json()
    assert (told["layer"], told["undo"], told["redo"]) == (layer, 1, 0)
    taken_back = {**told, "undo": 0, "redo": 1, "undo_says": None, "redo_says": told["undo_says"]}
    assert client.post(f"{P}/history/{layer}/undo").json() == taken_back
    assert client.post(f"{P}/history/{layer}/undo").json()["undo"] == 0
    assert client.post(f"{P}/history/{layer}/redo").json() == told


def test_sets_have_colours_and_notes(client: TestClient) -> None:
    client.put(f"{P}/photos/set", json={"paths": [ONE, TWO], "name": "upper ring"})
    assert client.put(f"{P}/photos/sets/upper ring", json={"color": "#aa5500", "note": "cloudy"}).status_code == 204
    assert client.get(f"{P}/photos/sets").json() == [
        {"name": "upper ring", "count": 2, "color": "#aa5500", "note": "cloudy"}
    ]
    assert client.put(f"{P}/photos/sets/upper ring", json={"color": "red"}).status_code == 422


def test_a_focal_length_is_typed_in_for_single_photos(client: TestClient, data: Path) -> None:
    client.put(f"{P}/photos/focal", json={"paths": [ONE], "focal_as_35_mm": 85})
    app: Any = client.app
    with Session(app.state.engine) as session:
        assert session.get_one(Project, 1).settings["photos"]["focals"] == {ONE: 85.0}
    assert states(client)["photos"] == "out of date"
    client.post(f"{P}/history/photos/undo")
    assert states(client)["photos"] == "ready"
    assert client.put(f"{P}/photos/focal", json={"paths": ["no.jpg"], "focal_as_35_mm": 85}).status_code == 404
    assert client.put(f"{P}/photos/focal", json={"paths": [ONE], "focal_as_35_mm": -1}).status_code == 422


def test_photos_are_passed_on_as_they_are_or_as_they_are_read(client: TestClient, data: Path) -> None:
    def members(**form: str) -> dict[str, bytes]:
        answer = client.post(f"{P}/photos/zip", data=form)
        assert answer.headers["content-type"] == "application/zip"
        with zipfile.ZipFile(io.BytesIO(answer.content)) as z:
            assert z.testzip() is None
            return {n: z.read(n) for n in z.namelist()}

    original = (data / "projects/1/photos" / ONE).read_bytes()
    client.patch(f"{P}/photos", json={"paths": [TWO], "kept": False})
    every = members()
    assert len(every) == 23
    assert TWO not in every
    assert every[ONE] == original
    assert list(members(paths=TWO)) == [TWO]
    client.put(f"{P}/photos/tone", json={"tone": {"brightness": 1.0}})
    brighter = members(paths=ONE, evened="true")[ONE]
    means = [float(np.asarray(Image.open(io.BytesIO(b)).convert("L")).mean()) for b in (original, brighter)]
    assert means[1] > means[0] * 1.2
    kept = Image.open(io.BytesIO(brighter)).getexif()
    assert dict(kept).get(0x0110) == Image.open(io.BytesIO(original)).getexif().get(0x0110)
    assert client.post(f"{P}/photos/zip", data={"paths": "../../vast-quarry.sqlite"}).status_code == 404


def test_a_project_has_notes(client: TestClient) -> None:
    assert client.patch(P, json={"notes": "# Milestone\nnorth side in shade"}).json()["notes"].startswith("# Mile")
    assert client.patch(P, json={"name": "Other"}).json()["notes"].startswith("# Mile")
    assert client.patch(P, json={"notes": ""}).json()["notes"] == ""


def test_jobs_and_projects_come_in_pages(client: TestClient) -> None:
    for _ in range(3):
        job = client.post(f"{P}/photos/judge").json()
        client.post(f"/api/v1/jobs/{job['id']}/cancel")
    newest = client.get("/api/v1/jobs", params={"limit": 2}).json()
    older = client.get("/api/v1/jobs", params={"limit": 2, "before": newest[-1]["id"]}).json()
    assert [j["id"] for j in (*newest, *older)] == sorted((j["id"] for j in (*newest, *older)), reverse=True)
    assert len({j["id"] for j in (*newest, *older)}) == 4
    assert client.get(f"/api/v1/jobs/{older[-1]['id']}").json() == older[-1]
    assert client.get("/api/v1/jobs/99999").status_code == 404
    some = [p["path"] for p in client.get(f"{P}/photos", params={"limit": 3, "after": ONE}).json()]
    assert some == [TWO, "milestone_003.jpg", "milestone_004.jpg"]
    ids = [client.post("/api/v1/projects", json={}).json()["id"] for _ in range(3)]
    page = client.get("/api/v1/projects", params={"limit": 2, "before": ids[-1]}).json()
    assert [p["id"] for p in page] == [ids[1], ids[0]]


def test_a_refusal_is_a_problem_with_a_code(client: TestClient) -> None:
    """RFC 9457, section 3: the media type and the members."""
    for answer, status, code in (
        (client.get("/api/v1/projects/77"), 404, "this-project-is-no-longer"),
        (client.get("/api/v1/nothing"), 404, "there-is-no-such-address"),
        (client.put("/api/v1/projects"), 405, ""),
        (client.post(f"{P}/photos/remove", json={"paths": []}), 422, "request-does-not-fit"),
        (client.post("/api/v1/projects", json={"name": "x"}, headers={"Origin": "http://elsewhere"}), 403, "requests-of-other-pages-are"),
    ):  # fmt: skip
        told = answer.json()
        assert answer.headers["content-type"] == "application/problem+json"
        assert (answer.status_code, told["status"], told["code"]) == (status, status, code)
        assert told["title"]
        assert told["detail"]
        assert told["type"] == (f"urn:vast-quarry:problem:{code}" if code else "about:blank")
    wrong = client.post(f"{P}/photos/remove", json={"paths": []}).json()["errors"]
    assert wrong[0]["loc"] == ["body", "paths"]
