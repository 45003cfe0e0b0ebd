"""Shooting with devices over HTTP: what they do, how they fail, how a shoot goes on."""

from __future__ import annotations

import contextlib
import io
import json
import re
import socket
import threading
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import pytest
import uvicorn
from fastapi.testclient import TestClient
from PIL import Image

from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.pose import look_at
from vast_quarry.core.rig.shoot import ShootSettings
from vast_quarry.rig.app import make_rig_app
from vast_quarry.server.app import make_app
from vast_quarry.server.services.equipment import Equipment, at_front
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.worker import work

PLAN = {"rings": 1, "pixels_wide": 96, "pixels_high": 72, "removed": list(range(4, 20)), "shape": "cylinder"}


@pytest.fixture(scope="module")
def rig() -> Iterator[str]:
    """The finial on its turntable, at an address."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    app = make_rig_app(ShootSettings(scene="finial", width=96, height=72, heldout=0))
    server = uvicorn.Server(uvicorn.Config(app, host="127.0.0.1", port=port, log_level="error"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    address = f"http://127.0.0.1:{port}"
    app.state.rig.wait()
    yield address
    server.should_exit = True
    thread.join(5)


@pytest.fixture
def devices(rig: str) -> Equipment:
    e = Equipment(rig, 10.0)
    e.wait_ready(lambda: None)
    e.fail([])
    return e


@pytest.fixture
def data(tmp_path: Path) -> Path:
    return tmp_path


@pytest.fixture
def client(data: Path) -> TestClient:
    return TestClient(make_app(data), "http://127.0.0.1", raise_server_exceptions=False)


def nothing() -> None:
    """Nobody wants to stop."""


def photo_of(data: bytes) -> np.ndarray:
    return np.asarray(Image.open(io.BytesIO(data)).convert("L"), float)


def test_turning_the_subject_or_walking_round_it_gives_the_same_picture(devices: Equipment) -> None:
    center = np.array([0.5, 0.3, 0.4])
    walked = Station(look_at(center, [0, 0, 0.18]), center, 0)
    degrees, front = at_front(walked)
    assert front.center[0] == pytest.approx(0, abs=1e-9)
    assert front.center[1] < 0
    devices.turn(0.0, nothing)
    devices.place(walked)
    a = devices.mask(devices.photograph(nothing)[0])
    devices.turn(degrees, nothing)
    devices.place(front)
    b = devices.mask(devices.photograph(nothing)[0])
    one, other = photo_of(a) > 128, photo_of(b) > 128
    assert one.sum() > 300
    assert (one != other).sum() < 0.02 * one.sum()


def test_settings_show_in_exposure_and_exif(devices: Equipment) -> None:
    devices.set_camera(8.0, 200, 1 / 125)
    usual = devices.photograph(nothing)[1]
    devices.set_camera(8.0, 200, 1 / 500)
    short = devices.photograph(nothing)[1]
    exif = Image.open(io.BytesIO(short)).getexif().get_ifd(0x8769)
    assert float(exif[0x829A]) == pytest.approx(1 / 500)
    assert photo_of(short).mean() < 0.75 * photo_of(usual).mean()
    devices.set_camera(8.0, 200, 1 / 125)


@pytest.mark.parametrize(
    ("failure", "says"),
    [
        ({"device": "camera", "kind": "error"}, "reports a fault"),
        ({"device": "camera", "kind": "card full"}, "card is full"),
        ({"device": "camera", "kind": "battery empty"}, "battery is empty"),
        ({"device": "turntable", "kind": "stall"}, "stopped at"),
    ],
)
def test_failures_are_told_in_plain_words_and_are_gone_when_tried_again(
    devices: Equipment, failure: dict[str, Any], says: str
) -> None:
    devices.turn(0.0, nothing)
    devices.fail([failure])

    def once() -> None:
        devices.turn(90.0, nothing)
        devices.photograph(nothing)

    with pytest.raises(PlainError, match=says):
        once()
    once()


def test_a_camera_that_never_answers_and_one_that_is_not_there(rig: str) -> None:
    impatient = Equipment(rig, 0.3)
    impatient.patience = 0.0001
    with pytest.raises(PlainError, match="does not answer"):
        impatient.photograph(nothing)
    with pytest.raises(PlainError, match="cannot be reached"):
        Equipment("http://127.0.0.1:9", 1.0).about()
    with pytest.raises(PlainError, match="no address"):
        Equipment("file:///etc/passwd", 1.0)


def wait_for(what: str, holds: Callable[[], bool], seconds: float = 60.0) -> None:
    end = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < end, f"waited too long for {what}"
        time.sleep(0.05)


def test_a_shoot_waits_when_a_device_fails_and_goes_on_where_it_was(client: TestClient, data: Path, rig: str) -> None:
    project = client.post("/api/v1/projects", json={"name": "Shoot"}).json()["id"]
    Equipment(rig, 5.0).fail(
        [{"device": "camera", "kind": "error"}, {"device": "turntable", "kind": "stall", "after": 0}]
    )
    body = {"scene": "finial", "plan": PLAN, "rig": rig}
    job = client.post(f"/api/v1/projects/{project}/plan/shoot", json=body).json()["id"]
    thread = threading.Thread(target=work, args=(data,), kwargs={"once": True}, daemon=True)
    thread.start()

    def row() -> dict[str, Any]:
        return next(j for j in client.get("/api/v1/jobs").json() if j["id"] == job)

    wait_for("the table to stall", lambda: row()["pause"])
    assert "turntable stopped at" in row()["message"]["text"]
    assert "Resume" in row()["message"]["text"]
    client.post(f"/api/v1/jobs/{job}/go-on")
    wait_for("the camera to fail", lambda: row()["pause"] and "reports a fault" in row()["message"]["text"])
    client.post(f"/api/v1/jobs/{job}/go-on")
    wait_for("the end", lambda: row()["state"] == "done")
    thread.join(20)
    listed = client.get(f"/api/v1/projects/{project}/photos").json()
    assert len(listed) == 4
    assert all(p["planned"] for p in listed)
    # asked again after a kill, it shoots nothing twice
    before = {f: f.stat().st_mtime_ns for f in (data / "projects" / str(project) / "photos").iterdir()}
    from vast_quarry.server.services.folders import folders_of
    from vast_quarry.server.services.shooting import shoot_project

    class Silent:
        def begin(self, *_: Any) -> None: ...
        def stage(self, *_: Any) -> None: ...
        def say(self, text: str) -> None: ...
        def pause(self, message: str) -> None:
            raise AssertionError(message)

        def paused(self) -> bool:
            return False

    shoot_project(folders_of(data, project), job, body, Silent(), threading.Event())
    assert before == {f: f.stat().st_mtime_ns for f in before}
    shots = json.loads((data / "projects" / str(project) / "shots.json").read_text())
    assert sorted(v["shot"] for v in shots.values()) == [0, 1, 2, 3]


def test_only_a_shoot_under_way_can_wait(client: TestClient) -> None:
    assert client.post("/api/v1/jobs/999/pause").status_code == 404
    assert client.post("/api/v1/jobs/999/go-on").status_code == 404


def test_what_the_plan_knows_presets_later_layers_below_what_is_set_by_hand(client: TestClient) -> None:
    project = client.post("/api/v1/projects", json={"name": "Known"}).json()["id"]

    def value(layer: str, name: str) -> Any:
        layers = {x["layer"]: x for x in client.get(f"/api/v1/projects/{project}/layers").json()}
        return next(s["value"] for s in layers[layer]["settings"] if s["name"] == name)

    usual = value("cameras", "features"), value("cameras", "ground"), value("points", "least_views")
    client.put(f"/api/v1/projects/{project}/plan", json={})
    assert (value("cameras", "features"), value("cameras", "ground"), value("points", "least_views")) == usual
    client.put(f"/api/v1/projects/{project}/plan", json={"way": "turntable", "skin": "plain"})
    assert value("cameras", "features") == 16_000
    assert value("cameras", "ground") is False
    client.put(f"/api/v1/projects/{project}/layers/cameras/settings", json={"features": 5000})
    assert value("cameras", "features") == 5000
    client.put(f"/api/v1/projects/{project}/plan", json={"kind": "room", "width": 4, "depth": 4, "height": 2.5})
    assert value("cameras", "kind") == "interior"


def test_a_mesh_stands_in_and_what_is_no_mesh_is_refused(client: TestClient, tmp_path: Path) -> None:
    import trimesh

    project = client.post("/api/v1/projects", json={"name": "Mesh"}).json()["id"]
    where = f"/api/v1/projects/{project}/plan"
    assert "no mesh" in client.put(where, json={"shape": "mesh"}).json()["detail"]
    ball = trimesh.creation.icosphere(3, radius=0.2)
    sent = client.post(f"{where}/mesh", files={"file": ("ball.stl", ball.export(file_type="stl"))})
    assert sent.json() == []
    out = client.put(where, json={"shape": "mesh", "mesh": "file"}).json()
    assert out["distance"] < 1.2
    assert 0.7 < out["seen_by_three"] < 0.95  # a ball's underside is not seen
    half = trimesh.Trimesh(ball.vertices, ball.faces[:500], process=False)
    notes = client.post(f"{where}/mesh", files={"file": ("half.ply", half.export(file_type="ply"))}).json()
    assert any("not closed" in n["text"] for n in notes)
    for name, body in (("empty.ply", b""), ("text.obj", b"not a mesh"), ("program.exe", b"MZ")):
        refused = client.post(f"{where}/mesh", files={"file": (name, body)})
        assert refused.status_code == 422, name
    assert client.put(where, json={"shape": "mesh", "mesh": "surface 7"}).status_code == 422
    # nothing of what was there is lost
    assert client.put(where, json={"shape": "mesh", "mesh": "file"}).status_code == 200


def test_plans_to_print_and_to_take_along(client: TestClient) -> None:
    project = client.post("/api/v1/projects", json={"name": "Print"}).json()["id"]
    where = f"/api/v1/projects/{project}/plan"
    client.put(where, json={"rings": 1, "colors": ["#a0522d"]})
    import pypdfium2

    marks = pypdfium2.PdfDocument(client.get(f"{where}/marks.pdf", params={"stops": 18}).content)
    assert len(marks) == 2
    assert "18 stops, 20 degrees each" in marks[0].get_textpage().get_text_range()
    glb = client.get(f"{where}/cameras.glb").content
    document = json.loads(glb[20 : 20 + int.from_bytes(glb[12:16], "little")])
    nodes = {n["name"]: n for n in document["nodes"]}
    stations = client.get(f"{where}/plan.json").json()["result"]["stations"]
    assert len(nodes) == len(stations) + 1 == 21
    x, y, z = stations[4]["center"]
    matrix = np.array(nodes["shot 5, lap 1"]["matrix"]).reshape(4, 4).T
    np.testing.assert_allclose(matrix[:3, 3], [x, z, -y], atol=1e-6)
    # a camera of glTF looks along its own -z: at the subject
    to = -matrix[:3, 3] + [0, 0.29, 0]
    assert -matrix[:3, 2] @ to / np.linalg.norm(to) > 0.999
    takes = client.get(f"{where}/expected").json()
    assert [e["grade"] for e in takes] == ["rough", "dressed", "polished"]
    assert takes[0]["seconds"] < takes[1]["seconds"] < takes[2]["seconds"]
    assert client.get(f"{where}/plan.json").json()["result"]["backdrop"]["name"] in ("blue", "green", "turquoise")


@pytest.mark.parametrize(
    ("wrong", "says"),
    [
        ({"width": 0}, "width"),
        ({"height": -1}, "height"),
        ({"focal_mm": 0}, "focal_mm"),
        ({"lowest_m": 2, "highest_m": 1}, "no position"),
        ({"kind": "area"}, "No area"),
        ({"obstacles": [{"low": [-9, -9, -9], "high": [9, 9, 9]}]}, "no position"),
        ({"colors": ["red"]}, "no colour"),
    ],
)
def test_impossible_wishes_are_refused_in_plain_words(client: TestClient, wrong: dict[str, Any], says: str) -> None:
    project = client.post("/api/v1/projects", json={"name": "Wrong"}).json()["id"]
    answer = client.put(f"/api/v1/projects/{project}/plan", json=wrong)
    assert answer.status_code == 422
    assert says in answer.text


class Liar(BaseHTTPRequestHandler):
    """A device that answers what it likes."""

    answers: ClassVar[dict[str, tuple[int, dict[str, str], bytes]]] = {}
    seen: ClassVar[list[str]] = []

    def _answer(self) -> None:
        self.seen.append(self.path)
        self.rfile.read(int(self.headers.get("Content-Length") or 0))
        status, headers, body = self.answers.get(self.path, (200, {}, b"{}"))
        self.send_response(status)
        for k, v in headers.items():
            self.send_header(k, v)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        with contextlib.suppress(OSError):
            self.wfile.write(body)

    do_GET = do_PUT = do_POST = do_DELETE = _answer

    def log_message(self, *_: object) -> None:
        """Nothing."""


@pytest.fixture
def liar() -> Iterator[str]:
    Liar.answers, Liar.seen = {}, []
    server = ThreadingHTTPServer(("127.0.0.1", 0), Liar)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()


def test_answers_of_a_device_are_data(liar: str, client: TestClient, data: Path) -> None:
    """Names from a device become no paths, and what is no photo is none, however the device insists."""
    out = io.BytesIO()
    Image.new("RGB", (96, 72), (90, 80, 70)).save(out, "JPEG")
    about = {"ready": True, "turntable": False, "scene": "../../../../escaped/x\0"}
    Liar.answers = {
        "/": (200, {}, json.dumps(about).encode()),
        "/camera/trigger": (200, {}, b'{"number": 1}'),
        "/camera/pictures/1": (200, {}, out.getvalue()),
    }
    project = client.post("/api/v1/projects", json={"name": "Lies"}).json()["id"]
    job = client.post(f"/api/v1/projects/{project}/plan/shoot", json={"plan": PLAN, "rig": liar}).json()
    work(data, once=True)
    assert next(j for j in client.get("/api/v1/jobs").json() if j["id"] == job["id"])["state"] == "done"
    photos = folders_of(data, project).photos
    assert {p.name for p in photos.rglob("*")} == {f"escapedx_{k:03d}.jpg" for k in range(1, 5)}
    assert not list(data.rglob("escaped"))


@pytest.mark.parametrize(
    ("path", "answer", "says"),
    [
        ("/", (200, {}, b"[" * 100_000), "cannot be understood"),
        ("/", (200, {}, b'"ready"'), "cannot be understood"),
        ("/", (302, {"Location": "http://127.0.0.1:9/"}, b""), "refuses"),
        ("/", (200, {}, b"x" * 2_000_000), "more than 1 MB"),
        ("/", (500, {}, json.dumps({"detail": "no\x1b[31m " + "a" * 5000}).encode()), "..."),
        ("/camera/trigger", (200, {}, b'{"number": "../../1"}'), "does not answer its number"),
        ("/turntable/turn", (200, {}, b'{"speed_deg_s": NaN}'), "does not answer its speed"),
    ],
)
def test_a_device_that_lies_is_told(liar: str, path: str, answer: tuple, says: str) -> None:  # type: ignore[type-arg]
    Liar.answers = {path: answer}
    devices = Equipment(liar, 5.0)
    ask = {"/": devices.about, "/camera/trigger": lambda: devices.photograph(nothing)}.get(
        path, lambda: devices.turn(1.0, nothing)
    )
    with pytest.raises(PlainError, match=re.escape(says)) as error:
        ask()
    assert len(str(error.value)) < 500
    assert str(error.value).isprintable()
