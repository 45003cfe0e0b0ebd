"""Shooting with devices over HTTP: what they do, how they fail, how a shoot goes on."""

from __future__ import annotations

import io
import json
import socket
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

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
    return TestClient(make_app(data), raise_server_exceptions=False)


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
    project = client.post("/api/projects", json={"name": "Shoot"}).json()["id"]
    Equipment(rig, 5.0).fail(
        [{"device": "camera", "kind": "error"}, {"device": "turntable", "kind": "stall", "after": 0}]
    )
    body = {"scene": "finial", "plan": PLAN, "rig": rig}
    job = client.post(f"/api/projects/{project}/plan/shoot", json=body).json()["id"]
    thread = threading.Thread(target=work, args=(data,), kwargs={"once": True}, daemon=True)
    thread.start()

    def row() -> dict[str, Any]:
        return next(j for j in client.get("/api/jobs").json() if j["id"] == job)

    wait_for("the table to stall", lambda: row()["pause"])
    assert "turntable stopped at" in row()["message"]
    assert "Go on" in row()["message"]
    client.post(f"/api/jobs/{job}/go-on")
    wait_for("the camera to fail", lambda: row()["pause"] and "reports a fault" in row()["message"])
    client.post(f"/api/jobs/{job}/go-on")
    wait_for("the end", lambda: row()["state"] == "done")
    thread.join(20)
    listed = client.get(f"/api/projects/{project}/photos").json()
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
    assert client.post("/api/jobs/999/pause").status_code == 404
    assert client.post("/api/jobs/999/go-on").status_code == 404
