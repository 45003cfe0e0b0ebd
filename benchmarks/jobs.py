"""How jobs behave: pauses between progress events, time left foretold against the truth, how quickly cancel works.

    .venv/bin/python benchmarks/jobs.py PHOTOS WORK [--grade dressed]

Runs the real server and its worker. The first run of a project is foretold by typical times only.
"""

from __future__ import annotations

import argparse
import json
import shutil
import threading
import time
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
from page import served

LAYERS = ("photos", "masks", "cameras", "points", "surface", "texture")


def call(url: str, body: dict[str, Any] | None = None, method: str = "") -> Any:
    """A request to the server, with its answer."""
    data = None if body is None else json.dumps(body).encode()
    kind = {"Content-Type": "application/json"}
    with urllib.request.urlopen(urllib.request.Request(url, data, kind, method=method or None)) as answer:
        return json.loads(answer.read() or b"null")


class Listener(threading.Thread):
    """Notes every event about the newest job: time, state, layer, stage, seconds left."""

    def __init__(self, url: str) -> None:
        super().__init__(daemon=True)
        self.url, self.notes, self.over = url, [], False
        self.start()

    def run(self) -> None:
        """Listen."""
        with urllib.request.urlopen(f"{self.url}/api/v1/jobs/events") as stream:
            for line in stream:
                if self.over:
                    return
                if line.startswith(b"data: [") and (jobs := json.loads(line[6:])):
                    j = jobs[0]
                    self.notes.append((time.monotonic(), j["state"], j["layer"], j["stage"], j["seconds_left"]))


def wait(url: str, job: int, *states: str) -> str:
    """Wait for a state of a job."""
    while True:
        state = next(j["state"] for j in call(f"{url}/api/v1/jobs") if j["id"] == job)
        if state in states:
            return str(state)
        time.sleep(0.05)


def foretold(notes: list[tuple], layer: str) -> tuple[float, np.ndarray]:
    """Seconds of a layer, and ratios of foretold to true time left after its first tenth."""
    mine = [n for n in notes if n[2] == layer and n[1] == "running"]
    if len(mine) < 2:
        return 0.0, np.zeros(0)
    after = [n[0] for n in notes if n[0] > mine[-1][0]]
    begin, end = mine[0][0], after[0] if after else mine[-1][0]
    inside = [n for n in mine if n[4] and begin + 0.1 * (end - begin) < n[0] < end - 2.0]
    return end - begin, np.array([n[4] / (end - n[0]) for n in inside])


def run(url: str, photos: Path, grade: str) -> int:
    """A project run through to Texture, with figures."""
    project = call(f"{url}/api/v1/projects", {"name": "Jobs", "grade": grade})["id"]
    call(f"{url}/api/v1/projects/{project}/photos/from-path", {"path": str(photos)})
    for attempt in ("first run", "same again elsewhere"):
        listener = Listener(url)
        job = call(f"{url}/api/v1/projects/{project}/layers/texture/run", {})["id"]
        wait(url, job, "done", "failed")
        listener.over = True
        notes = [n for n in listener.notes if n[1] == "running"]
        gaps = np.diff([n[0] for n in notes])
        print(f"{attempt}: events every {np.median(gaps):.2f} s (median), longest pause {gaps.max():.2f} s")
        for layer in LAYERS:
            seconds, ratios = foretold(listener.notes, layer)
            if seconds > 5 and len(ratios):
                good = ((ratios > 0.5) & (ratios < 2)).mean()
                print(
                    f"  {layer}: {seconds:.0f} s; foretold over true time left: median {np.median(ratios):.2f}, "
                    f"{ratios.min():.2f} to {ratios.max():.2f}, within a factor of two {100 * good:.0f} %"
                )
        # another setting that changes nothing that is slow makes everything new
        call(f"{url}/api/v1/projects/{project}/layers/photos/settings", {}, "PUT")
        call(
            f"{url}/api/v1/projects/{project}/photos",
            {"paths": [sorted(photos.iterdir())[-1].name], "kept": False},
            "PATCH",
        )
    return int(project)


def cancels(url: str, photos: Path, grade: str, count: int) -> None:
    """Cancel runs at many moments."""
    delays = []
    for k in range(count):
        project = call(f"{url}/api/v1/projects", {"name": f"Cancel {k}", "grade": grade})["id"]
        call(f"{url}/api/v1/projects/{project}/photos/from-path", {"path": str(photos)})
        job = call(f"{url}/api/v1/projects/{project}/layers/texture/run", {})["id"]
        wait(url, job, "running")
        time.sleep(2 + 7.0 * k)
        began = time.monotonic()
        call(f"{url}/api/v1/jobs/{job}/cancel", {})
        wait(url, job, "cancelled", "done", "failed")
        delays.append(time.monotonic() - began)
    print(f"cancel, {count} times: median {np.median(delays):.2f} s, longest {max(delays):.2f} s")


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("photos", type=Path)
    parser.add_argument("work", type=Path)
    parser.add_argument("--grade", default="dressed")
    parser.add_argument("--cancels", type=int, default=10)
    a = parser.parse_args()
    data = a.work / "jobs"
    shutil.rmtree(data, ignore_errors=True)
    data.mkdir(parents=True)
    with served(data) as url:
        run(url, a.photos, a.grade)
        if a.cancels:
            cancels(url, a.photos, a.grade, a.cancels)


if __name__ == "__main__":
    main()
