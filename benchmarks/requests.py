"""A project of many photos: how long the server takes over what the page asks for most. Writes a table.

    .venv/bin/python benchmarks/requests.py WORK [--photos 1000] [--tries 9]

The project is made once: small photos with EXIF, judged, with a Photos version and a Cameras version of thousands of files.
"""

from __future__ import annotations

import argparse
import json
import shutil
import statistics
import time
from pathlib import Path

import numpy as np
from fastapi.testclient import TestClient
from PIL import Image

from vast_quarry.core.formats.atomic import write_json
from vast_quarry.server.app import make_app
from vast_quarry.server.services.folders import folders_of
from vast_quarry.server.worker import work


def photos(folder: Path, count: int) -> None:
    """Photos with EXIF, each another one."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(0)
    for k in range(count):
        exif = Image.Exif()
        exif[0x0110] = "Practice"
        exif.get_ifd(0x8769)[0x920A] = 35.0
        Image.fromarray(rng.integers(0, 255, (90, 120, 3), np.uint8)).save(
            folder / f"p{k:05d}.jpg", exif=exif, quality=80
        )


def fill(data: Path, client: TestClient, count: int) -> int:
    """A project with so many photos, and results of the size that they have."""
    project = int(client.post("/api/v1/projects", json={"name": "Many", "grade": "rough"}).json()["id"])
    folders = folders_of(data, project)
    photos(folders.photos, count)
    client.post(f"/api/v1/projects/{project}/layers/photos/run")
    work(data, once=True)
    store = folders.store
    listed = store.versions("photos")[0]
    for n in range(2):
        partial = store.partial("cameras", f"made-up-{n}")
        for kind in ("features", "matches"):
            (partial / kind).mkdir()
            for k in range(count):
                (partial / kind / f"{k:05d}.npz").write_bytes(b"x" * 64)
        store.finish("cameras", f"made-up-{n}", {}, {"photos": listed.number}, {}, [], 1.0)
    for k in range(count):
        (folders.cache / f"thumb-{k:05d}.jpg").write_bytes(b"x" * 64)
    write_json(data / "benchmark.json", {"project": project, "photos": count})
    return project


def main() -> None:
    """Ask and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--photos", type=int, default=1000)
    parser.add_argument("--tries", type=int, default=9)
    a = parser.parse_args()
    mark = a.work / "benchmark.json"
    if not mark.exists():
        shutil.rmtree(a.work, ignore_errors=True)
    client = TestClient(make_app(a.work), "http://127.0.0.1")
    project = json.loads(mark.read_bytes())["project"] if mark.exists() else fill(a.work, client, a.photos)
    base = f"/api/v1/projects/{project}"
    one = client.get(f"{base}/photos").json()[0]["path"]
    requests = {
        "all projects": ("GET", "/api/v1/projects", None),
        "one project": ("GET", base, None),
        "list of photos": ("GET", f"{base}/photos", None),
        "layers with versions": ("GET", f"{base}/layers", None),
        "jobs": ("GET", "/api/v1/jobs", None),
        "a thumbnail": ("GET", f"{base}/photos/thumb?path={one}&side=240", None),
        "leave a photo out": ("PATCH", f"{base}/photos", {"paths": [one], "kept": False}),
        "name a set": ("PUT", f"{base}/photos/set", {"paths": [one], "name": "north"}),
        "tones of all": ("GET", f"{base}/photos/tone", None),
    }
    print("| request | first, ms | median, ms | answer, kB |\n|---|---|---|---|", flush=True)
    for name, (method, path, body) in requests.items():
        times = []
        for _ in range(a.tries + 1):
            began = time.perf_counter()
            answer = client.request(method, path, json=body)
            times.append(1000 * (time.perf_counter() - began))
        assert answer.status_code < 400, (name, answer.text)
        print(
            f"| {name} | {times[0]:.0f} | {statistics.median(times[1:]):.1f} | {len(answer.content) / 1000:.0f} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
