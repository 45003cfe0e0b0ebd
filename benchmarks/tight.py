"""Many photos, many projects, many tabs: what bringing in, the first screen, the list of projects and idle tabs cost. Prints lines.

    .venv/bin/python benchmarks/tight.py WORK [--photos 1000] [--projects 50] [--tabs 10]

All of it is measured at a real server, over HTTP and in a real browser.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import statistics
import time
import urllib.request
from pathlib import Path
from typing import Any

import psutil
from benchmarks.page import ARGS, CHROMIUM, served
from benchmarks.requests import photos
from playwright.sync_api import sync_playwright


def ask(url: str, body: object = None) -> Any:
    """A request, and what was answered; a body makes it a POST."""
    data = None if body is None else json.dumps(body).encode()
    headers = {"Content-Type": "application/json"} if data else {}
    with urllib.request.urlopen(urllib.request.Request(url, data, headers)) as answer:
        return json.loads(answer.read())


def brought_in(url: str, folder: Path) -> tuple[int, float, int]:
    """Bring a folder in by its path: the project, seconds, and how many different states of progress were seen."""
    project = ask(f"{url}/api/v1/projects", {"name": "Many"})["id"]
    began = time.perf_counter()
    job = ask(f"{url}/api/v1/projects/{project}/photos/from-path", {"path": str(folder)})["id"]
    seen = set()
    while True:
        now = ask(f"{url}/api/v1/jobs/{job}")
        seen.add(now["done"])
        if now["state"] not in ("queued", "running"):
            assert now["state"] == "done", now
            return project, time.perf_counter() - began, len(seen)
        time.sleep(0.02)


def cpu(processes: list[psutil.Process]) -> float:
    """Seconds that processes have computed."""
    return sum(p.cpu_times().user + p.cpu_times().system for p in processes if p.is_running())


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--photos", type=int, default=1000)
    parser.add_argument("--projects", type=int, default=50)
    parser.add_argument("--tabs", type=int, default=10)
    a = parser.parse_args()
    shutil.rmtree(a.work, ignore_errors=True)
    photos(a.work / "folder", a.photos)
    with served(a.work / "data") as url, sync_playwright() as p:
        for way in ("first", "second"):
            project, seconds, states = brought_in(url, a.work / "folder")
            print(f"{a.photos} photos by path, {way} project: {seconds:.2f} s, {states} states of progress", flush=True)
        times = []
        for _ in range(9):
            began = time.perf_counter()
            listed = ask(f"{url}/api/v1/projects/{project}/photos")
            times.append(1000 * (time.perf_counter() - began))
        print(
            f"list of {len(listed)} photos: median {statistics.median(times):.0f} ms, longest {max(times):.0f} ms",
            flush=True,
        )

        browser = p.chromium.launch(executable_path=CHROMIUM, args=ARGS, chromium_sandbox=os.getuid() != 0)
        for way in ("first time", "again"):
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            began = time.perf_counter()
            page.goto(f"{url}/projects/{project}/photos", wait_until="commit")
            page.get_by_text(f"{a.photos:,} included").wait_for()
            named = time.perf_counter() - began
            page.wait_for_function(
                "() => { const all = [...document.querySelectorAll('.ph img')]; return all.length && all.every((i) => i.complete && i.naturalWidth) }"
            )
            print(
                f"first screen ({way}): list after {named:.2f} s, all pictures of it after {time.perf_counter() - began:.2f} s",
                flush=True,
            )
            page.close()

        made = [ask(f"{url}/api/v1/projects", {"name": f"Project {k}"})["id"] for k in range(a.projects - 2)]
        versions = a.work / "data" / "projects" / str(made[0]) / "versions"
        versions.mkdir(parents=True, exist_ok=True)
        (versions / "in-use.json").write_text("{ cut sho")
        began = time.perf_counter()
        all_of_them = ask(f"{url}/api/v1/projects")
        seconds = time.perf_counter() - began
        troubled = [x["id"] for x in all_of_them if x["trouble"]]
        print(
            f"{len(all_of_them)} projects: {1000 * seconds:.0f} ms, with trouble: {troubled} (damaged: {made[0]})",
            flush=True,
        )

        server = next(
            q
            for q in psutil.Process().children()
            if "serve" in " ".join(q.cmdline()) and "vast_quarry" in " ".join(q.cmdline())
        )
        pages = [browser.new_page() for _ in range(a.tabs)]
        for page in pages:
            page.goto(f"{url}/projects/{project}/photos")
            page.get_by_text(f"{a.photos:,} included").wait_for()
        time.sleep(40)  # what they fetch when they are opened, and what is made ahead
        theirs = [server, *server.children(recursive=True)]
        before, began = cpu(theirs), time.perf_counter()
        time.sleep(30)
        share = (cpu(theirs) - before) / (time.perf_counter() - began)
        print(f"{a.tabs} idle tabs: {100 * share:.1f} % of a core for the server and its workers", flush=True)
        browser.close()


if __name__ == "__main__":
    main()
