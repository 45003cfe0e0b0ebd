"""Kill server, worker or both at random moments of a run, start again, and see whether the result is that of an unbroken run.

    .venv/bin/python benchmarks/kills.py WORK [--kills 30] [--seed 1]

Prints each kill, and at the end how many recoveries there were and whether files of the versions are the same, byte for byte.
"""

from __future__ import annotations

import argparse
import hashlib
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import httpx
import numpy as np
import psutil

from vast_quarry.core.rig.shoot import ShootSettings, shoot
from vast_quarry.server.services.folders import folders_of

#: files of a version that are its result; times and the like differ from run to run
RESULTS = {
    "photos": ["photos.json"],
    "cameras": ["solution.npz", "cameras.json"],
    "points": ["cloud.npz"],
    "surface": ["mesh.npz"],
    "texture": ["model.npz", "texture.jpg"],
}


class Server:
    """A server with its worker."""

    def __init__(self, data: Path) -> None:
        self.data = data
        self.process: subprocess.Popen[bytes] | None = None

    def start(self) -> httpx.Client:
        """Start it, and wait until it answers."""
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            port = s.getsockname()[1]
        command = [sys.executable, "-m", "vast_quarry.cli.main", "serve", "--data", str(self.data), "--port", str(port)]
        self.process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        http = httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=60, trust_env=False)
        while True:
            try:
                if http.get("/api/v1/health").status_code == 200:
                    return http
            except httpx.TransportError:
                time.sleep(0.1)

    def worker(self) -> int | None:
        """Number of the worker's process."""
        assert self.process is not None
        for child in psutil.Process(self.process.pid).children():
            if "vast_quarry.server.worker" in child.cmdline():
                return child.pid
        return None

    def kill(self, what: str) -> None:
        """Kill at once, without a chance to tidy up."""
        assert self.process is not None
        worker = self.worker()
        if what in ("worker", "both") and worker is not None:
            os.killpg(worker, signal.SIGKILL)
        if what in ("server", "both"):
            self.process.kill()
            self.process.wait()


def job_of(http: httpx.Client, number: int) -> dict:
    """How a job stands."""
    return next(j for j in http.get("/api/v1/jobs").json() if j["id"] == number)


def begin(http: httpx.Client, photos: Path) -> tuple[int, int]:
    """A project of the photos, and a run of all layers."""
    project = int(http.post("/api/v1/projects", json={"name": "Kills", "grade": "rough"}).json()["id"])
    http.post(f"/api/v1/projects/{project}/photos/from-path", json={"path": str(photos)}).raise_for_status()
    job = http.post(f"/api/v1/projects/{project}/layers/texture/run").json()
    return project, int(job["id"])


def sums(data: Path, project: int) -> dict[str, str]:
    """Checksums of what a project's versions hold."""
    store = folders_of(data, project).store
    out = {}
    for layer, names in RESULTS.items():
        versions = store.versions(layer)
        out[f"{layer}: versions"] = str(len(versions))
        for name in names:
            file = store.folder(versions[-1]) / name if versions else Path("none")
            body = file.read_bytes() if file.exists() else b""
            # where the photos of a project lie is its own
            body = body.replace(str(store.root.parent).encode(), b"")
            out[f"{layer}: {name}"] = hashlib.sha256(body).hexdigest()[:16] if body else "not there"
    return out


def main() -> None:
    """Run and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--kills", type=int, default=30)
    parser.add_argument("--each", type=int, default=6, help="Kills of one run, at most")
    parser.add_argument("--seed", type=int, default=1)
    a = parser.parse_args()
    rng = np.random.default_rng(a.seed)
    shutil.rmtree(a.work / "data", ignore_errors=True)
    if not (a.work / "set" / "photos").exists():
        shoot(
            ShootSettings(scene="milestone", rings=2, per_ring=12, width=480, height=360, heldout=0, seed=4),
            a.work / "set",
        )
    server = Server(a.work / "data")
    http = server.start()
    project, job = begin(http, a.work / "set" / "photos")
    began = time.monotonic()
    while job_of(http, job)["state"] in ("queued", "running"):
        time.sleep(0.3)
    assert job_of(http, job)["state"] == "done", job_of(http, job)["message"]
    whole = time.monotonic() - began
    expected = sums(server.data, project)
    print(f"unbroken: {whole:.0f} s", flush=True)
    kills = recovered = same = runs = 0
    while kills < a.kills:
        project, job = begin(http, a.work / "set" / "photos")
        runs, mine, deaths = runs + 1, 0, 0
        while True:
            until = time.monotonic() + rng.uniform(0.5, whole / 3)
            limit = mine >= a.each or kills >= a.kills
            while job_of(http, job)["state"] in ("queued", "running") and (limit or time.monotonic() < until):
                time.sleep(0.1)
            state = job_of(http, job)
            if state["state"] not in ("queued", "running"):
                break
            # a job over which the worker dies three times by itself is given up, as it should be
            what = str(rng.choice(["server", "worker", "both"] if deaths < 2 else ["server"]))
            deaths += what != "server"
            print(f"kill {kills + 1}: {what} in {state['layer']} ({state['stage']})", flush=True)
            server.kill(what)
            kills, mine = kills + 1, mine + 1
            if what != "worker":
                http = server.start()
            after = time.monotonic()
            lost = len(state["log"])
            while job_of(http, job)["state"] == "queued" or len(job_of(http, job)["log"]) <= lost:
                if time.monotonic() - after > 60 or job_of(http, job)["state"] not in ("queued", "running"):
                    break
                time.sleep(0.1)
            recovered += job_of(http, job)["state"] in ("running", "done")
        found = sums(server.data, project)
        wrong = [k for k in expected if found.get(k) != expected[k]]
        same += not wrong and job_of(http, job)["state"] == "done"
        print(
            f"run {runs}: {job_of(http, job)['state']} after {mine} kills; differs in: {', '.join(wrong) or 'nothing'}",
            flush=True,
        )
    print(f"{kills} kills, {recovered} recoveries, {same} of {runs} runs equal to the unbroken one")
    server.kill("both")


if __name__ == "__main__":
    main()
