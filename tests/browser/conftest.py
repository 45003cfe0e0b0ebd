"""A server of its own, a browser, and ways to look at what is drawn."""

from __future__ import annotations

import base64
import io
import json
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Error as PageError
from playwright.sync_api import Page, Request, expect, sync_playwright
from tests.conftest import moved

CHROMIUM = "/usr/bin/chromium"
ARGS = [
    "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--no-first-run",
]  # fmt: skip
WEB = Path(__file__).parents[2] / "web"

# other work may share the machine: generous waits, which cost nothing when all is quick
expect.set_options(timeout=30_000)


@pytest.fixture(scope="session", autouse=True)
def ready() -> None:
    """What these tests need; without it they fail, since a check that is silently left out is none."""
    assert Path(CHROMIUM).exists(), "chromium is missing: make setup installs it"
    assert (WEB / "dist" / "index.html").exists(), "the page is not built: make web"


class Server:
    """A server of its own, with its worker; can be stopped and started again at the same address."""

    def __init__(self, data: Path) -> None:
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self.data, self.url = data, f"http://127.0.0.1:{self.port}"
        self.start()

    def start(self) -> None:
        command = [
            sys.executable,
            "-m",
            "vast_quarry.cli.main",
            "serve",
            "--data",
            str(self.data),
            "--port",
            str(self.port),
        ]
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        for _ in range(240):
            try:
                urllib.request.urlopen(f"{self.url}/api/v1/health")
                return
            except OSError:
                time.sleep(0.25)

    def stop(self) -> None:
        self.process.send_signal(signal.SIGINT)
        assert self.process.wait(15) is not None  # Ctrl-C ends it, and its worker with it


@pytest.fixture(scope="session")
def server(built_data: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    """A server whose first project is the milestone, built; tests make projects of their own beside it."""
    started = Server(moved(built_data, tmp_path_factory.mktemp("served")))
    yield started
    started.stop()


@pytest.fixture
def built(address: str) -> Iterator[int]:
    """The project of the milestone, and after the test again as it was before."""
    (number,) = [p["id"] for p in api(address, "/api/v1/projects") if p["name"] == "Carved milestone"]
    yield number
    send(address, f"/api/v1/projects/{number}/draft", "DELETE")
    for layer in api(address, f"/api/v1/projects/{number}/layers"):
        if len(layer["versions"]) > 1 and layer["layer"] != "finish":
            send(address, f"/api/v1/projects/{number}/layers/{layer['layer']}/use", "POST", {"number": 1})


@pytest.fixture(scope="session")
def address(server: Server) -> str:
    return server.url


@pytest.fixture(scope="session")
def page(address: str) -> Iterator[Page]:
    """A page that notes requests to other hosts, and errors."""
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path=CHROMIUM, args=ARGS, chromium_sandbox=os.getuid() != 0)
        tab = browser.new_page(viewport={"width": 1280, "height": 800})
        tab.set_default_timeout(60_000)
        tab.add_init_script(path=WORLD)
        tab.strangers = []  # type: ignore[attr-defined]
        tab.asked = 0  # type: ignore[attr-defined]
        tab.errors = []  # type: ignore[attr-defined]

        def note(request: Request) -> None:
            tab.asked += 1  # type: ignore[attr-defined]
            if not request.url.startswith((address, "data:", "blob:")):
                tab.strangers.append(request.url)  # type: ignore[attr-defined]

        tab.on("request", note)
        tab.on("pageerror", lambda e: tab.errors.append(str(e)))  # type: ignore[attr-defined]
        yield tab
        browser.close()


#: how the 3D view is reached from tests
WORLD = Path(__file__).with_name("world.js")
PARTS = ("cameras", "cloud", "box", "mesh", "ground")


def drawn(page: Page, part: str) -> float:
    """Share of the world's pixels that one part of it alone is drawn on."""
    page.wait_for_function("() => !!window.vqWorld")
    data = page.evaluate(
        """([part, all]) => {
            const was = all.map((k) => [k, window.vqWorld.shows(k)])
            all.forEach((k) => window.vqWorld.show(k, k === part))
            const picture = window.vqWorld.picture().split(',')[1]
            was.forEach(([k, on]) => window.vqWorld.show(k, on))
            return picture
        }""",
        [part, list(PARTS)],
    )
    picture = np.asarray(Image.open(io.BytesIO(base64.b64decode(data))).convert("RGBA"))
    return float((picture[..., 3] > 0).mean())


def wait_drawn(page: Page, part: str, least: float, patience: float = 90.0) -> None:
    """Wait until a part of the world is drawn on more than a share of it: what is shown has to be fetched first."""
    deadline = time.monotonic() + patience
    share = 0.0
    while time.monotonic() < deadline:
        try:
            share = drawn(page, part)
        except PageError:  # the world of the layer before, just being taken down
            continue
        if share > least:
            return
        page.wait_for_timeout(200)
    raise AssertionError(f"{part} is drawn on {share:.4f} of the world only, more than {least} was expected")


def at_rest(page: Page) -> None:
    """Wait until the view stands where it was told to turn to, however slow the machine is."""
    page.wait_for_function("() => !!window.vqWorld")
    before = None
    for _ in range(120):
        now = page.evaluate("() => window.vqWorld.matrix()")
        if now == before:
            return
        before = now
        page.wait_for_timeout(300)
    raise AssertionError("the view does not come to rest")


def settled(page: Page) -> None:
    """Wait until nothing on the page moves in or out any more."""
    page.wait_for_function(
        """() => document.getAnimations().every((a) => a.playState !== 'running'
            || a.effect.getComputedTiming().iterations === Infinity)"""
    )


def quiet(page: Page) -> None:
    """Wait until the page has asked for all that it needs: for half a second it asks for nothing more."""
    before, since = -1, time.monotonic()
    while time.monotonic() - since < 0.5:
        if page.asked != before:  # type: ignore[attr-defined]
            before, since = page.asked, time.monotonic()  # type: ignore[attr-defined]
        page.wait_for_timeout(50)


def api(address: str, path: str) -> Any:
    return json.loads(urllib.request.urlopen(address + path).read())


def bring(address: str, project: int, folder: Path, **more: object) -> None:
    """Bring in the photos of a folder, and wait until they are there."""
    body = {"path": str(folder), **more}
    job = send(address, f"/api/v1/projects/{project}/photos/from-path", "POST", body)["id"]
    deadline = time.monotonic() + 120
    while time.monotonic() < deadline:
        state = next(j["state"] for j in send(address, "/api/v1/jobs", "GET") if j["id"] == job)
        if state not in ("queued", "running"):
            assert state == "done"
            return
        time.sleep(0.1)
    raise AssertionError("the photos did not come")


def send(address: str, path: str, method: str, body: object = None) -> Any:
    """A request as another program would make it."""
    data = None if body is None else json.dumps(body).encode()
    headers = {} if data is None else {"Content-Type": "application/json"}
    with urllib.request.urlopen(urllib.request.Request(address + path, data, headers, method=method)) as answer:
        text = answer.read()
        return json.loads(text) if text else None
