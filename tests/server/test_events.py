"""What changes is told over one stream of server-sent events (HTML Living Standard, chapter Server-sent events)."""

from __future__ import annotations

import json
import queue
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import pytest
from fastapi.testclient import TestClient
from tests.server.test_ground import fill, serving

from vast_quarry.server.app import make_app

Event = tuple[str, Any]


class Listener:
    """Reads a stream as it comes, in a thread of its own."""

    def __init__(self, address: str) -> None:
        self.events: queue.Queue[Event] = queue.Queue()
        self.kind = ""
        self.latest: dict[str, Any] = {}
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._read, args=(address,), daemon=True)
        self._thread.start()

    def _read(self, address: str) -> None:
        with httpx.stream("GET", f"{address}/api/v1/jobs/events", timeout=60, trust_env=False) as answer:
            self.kind = answer.headers["content-type"]
            name = "message"
            for line in answer.iter_lines():
                if self._over.is_set():
                    return
                field, _, value = line.partition(": ")
                if field == "event":
                    name = value
                elif field == "data":
                    self.latest[name] = json.loads(value)
                    self.events.put((name, self.latest[name]))

    def until(self, wanted: Callable[[Event], bool], patience: float = 60.0) -> Event:
        """The first event of a kind; those before it are passed over."""
        while True:
            try:
                event = self.events.get(timeout=patience)
            except queue.Empty:
                raise AssertionError("nothing of the kind was told") from None
            if wanted(event):
                return event

    def close(self) -> None:
        self._over.set()


def test_jobs_and_changes_are_told_to_all_who_listen(tmp_path: Path) -> None:
    with serving(tmp_path) as (_, http):
        address = str(http.base_url).rstrip("/")
        listeners = [Listener(address), Listener(address)]
        for listener in listeners:  # what there is, is told at once
            assert listener.until(lambda e: e[0] == "jobs")[1] == []
            assert listener.kind.startswith("text/event-stream")
        project = fill(http, 2)
        for listener in listeners:
            told = listener.until(lambda e: e[0] == "changes" and "photos" in e[1].get(str(project), {}))[1]
            assert set(told) == {str(project)}
        job = http.post(f"/api/v1/projects/{project}/layers/photos/run").json()

        def state(event: Event) -> str | None:
            return next((j["state"] for j in event[1] if j["id"] == job["id"]), None) if event[0] == "jobs" else None

        for listener in listeners:
            done = listener.until(lambda e: state(e) in ("done", "failed"))
            assert state(done) == "done"
            # progress is told, recipes and other projects' insides are not
            assert "recipe" not in json.dumps(done[1])
        # a rename changes the project and nothing else of it
        before = listeners[0].latest["changes"][str(project)]
        http.put(f"/api/v1/projects/{project}/plan", json=http.get(f"/api/v1/projects/{project}/plan").json())
        after = listeners[0].until(lambda e: e[0] == "changes" and e[1][str(project)] != before)[1][str(project)]
        changed = {k for k, v in after.items() if v != before.get(k)}
        assert "plan" in changed
        assert "photos" not in changed
        for listener in listeners:
            listener.close()


@pytest.mark.parametrize("site", ["https://elsewhere.example", "null"])
def test_another_site_hears_nothing(tmp_path: Path, site: str) -> None:
    client = TestClient(make_app(tmp_path), "http://127.0.0.1")
    headers = {"Origin": site, "Sec-Fetch-Site": "cross-site"}
    assert client.get("/api/v1/jobs/events", headers=headers).status_code == 403
