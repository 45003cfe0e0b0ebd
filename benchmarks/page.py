"""What the page takes, in a real browser: first picture, scrolling, turning heavy things, looking at single pixels.

    .venv/bin/python benchmarks/page.py DEMO_DATA WORK

``DEMO_DATA`` is a data folder with the finished demo project (``make demo`` makes it). A copy of it in ``WORK`` gets
1,000 photos, a cloud of two million points and a textured mesh of more than 500,000 triangles, made from its own.
"""

from __future__ import annotations

import argparse
import os
import shutil
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from PIL import Image
from playwright.sync_api import Page, sync_playwright

from vast_quarry.core.formats.atomic import write_arrays
from vast_quarry.pipeline.steps.finish import load_textured
from vast_quarry.pipeline.store import Store

CHROMIUM = "/usr/bin/chromium"
ARGS = ["--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking", "--no-first-run"]


def split_in_four(v: np.ndarray, n: np.ndarray, uv: np.ndarray, f: np.ndarray) -> tuple[np.ndarray, ...]:
    """Every triangle as four, each with corners of its own kept where they were shared."""
    edges = np.sort(np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]]), axis=1)
    unique, inverse = np.unique(edges, axis=0, return_inverse=True)
    a, b, c = (inverse.reshape(3, -1) + len(v))[:, :, None].transpose(0, 2, 1).reshape(3, -1)
    middle = lambda x: np.concatenate([x, (x[unique[:, 0]] + x[unique[:, 1]]) / 2])  # noqa: E731
    faces = np.concatenate([np.stack(t, 1) for t in ((f[:, 0], a, c), (a, f[:, 1], b), (c, b, f[:, 2]), (a, b, c))])
    return middle(v), middle(n), middle(uv), faces


def make_heavy(data: Path) -> None:
    """Grow the first finished project of a data folder."""
    root = next(p for p in sorted((data / "projects").iterdir()) if "texture" in Store(p).in_use())
    store = Store(root)
    use = store.in_use()
    points = root / "versions" / "points" / str(use["points"]) / "cloud.npz"
    with np.load(points) as f:
        cloud = dict(f)
    n = len(cloud["points"])
    pick = np.random.default_rng(0).integers(0, n, 2_000_000)
    shake = np.random.default_rng(1).normal(0, 0.0005, (2_000_000, 3))
    write_arrays(
        points,
        **{k: (x[pick] if len(x) == n else x) for k, x in cloud.items()} | {"points": cloud["points"][pick] + shake},
    )
    folder = root / "versions" / "texture" / str(use["texture"])
    mesh = load_textured(folder)
    parts: tuple[np.ndarray, ...] = (mesh.vertices, mesh.normals, mesh.uv, mesh.faces)
    while len(parts[3]) < 500_000:
        parts = split_in_four(*parts)
    write_arrays(folder / "model.npz", vertices=parts[0], normals=parts[1], uv=parts[2], faces=parts[3])
    print(f"heavy: mesh {len(parts[3]):,} triangles, cloud 2,000,000 points")
    photos = sorted(p for p in (root / "photos").iterdir() if p.suffix == ".jpg")
    for k in range(1000 - len(photos)):
        shutil.copy(photos[k % len(photos)], root / "photos" / f"more_{k:04d}.jpg")
    large = np.asarray(Image.open(photos[0]).resize((6000, 4000)))
    Image.fromarray(large).save(root / "photos" / "a_large.jpg", quality=92)
    shutil.rmtree(root / "cache", ignore_errors=True)
    (root / "cache").mkdir()


@contextmanager
def served(data: Path) -> Iterator[str]:
    """A server over a data folder."""
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    command = [sys.executable, "-m", "vast_quarry.cli.main", "serve", "--data", str(data), "--port", str(port)]
    server = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    url = f"http://127.0.0.1:{port}"
    try:
        while True:
            try:
                urllib.request.urlopen(f"{url}/api/v1/health")
                break
            except OSError:
                time.sleep(0.3)
        yield url
    finally:
        server.terminate()
        server.wait(10)


#: how the 3D view is reached: by what the tests of the page use
WORLD = Path(__file__).parents[1] / "tests" / "browser" / "world.js"
FIRST_PICTURE = """() => new Promise(done => {
  const look = () => {
    const w = window.vqWorld
    const still = document.querySelector(".world .poster"); if (still && still.complete && still.naturalWidth && !window.firstStill) window.firstStill = performance.now()
    if (w && !w.onFilled && w.parts.mesh.children.length) done([performance.now(), window.firstStill || 0])
    else setTimeout(look, 10)
  }
  look()
})"""

SCROLL = """() => new Promise(done => {
  const sheet = document.querySelector('.sheet'), frames = []
  let last = performance.now(), n = 0
  const step = now => {
    frames.push(now - last); last = now
    sheet.scrollTop += 60
    if (++n < 240 && sheet.scrollTop + sheet.clientHeight < sheet.scrollHeight - 4) requestAnimationFrame(step)
    else done(frames.slice(2))
  }
  requestAnimationFrame(step)
})"""


def turn(page: Page) -> tuple[float, float]:
    """Frames a second while the view is dragged round, and the longest frame (s)."""
    box = page.locator("canvas").bounding_box()
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    times = page.evaluate(
        """() => { window.stamps = []; const note = () => { if (window.noting) { requestAnimationFrame(note) } };
        const p = window.vqWorld.painter, old = p.draw.bind(p); p.draw = (s) => { old(s); window.stamps.push(performance.now()) } }"""
    )
    end = time.monotonic() + 4
    k = 0
    while time.monotonic() < end:
        k += 1
        page.mouse.move(x + 8 * (k % 40), y + 2 * (k % 7))
        page.wait_for_timeout(16)
    page.mouse.up()
    times = page.evaluate("() => window.stamps")
    gaps = np.diff(list(times)) / 1000
    gaps = gaps[len(gaps) // 5 :]  # the first frames learn how much can be drawn
    return float(1 / gaps.mean()), float(gaps.max())


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("demo", type=Path)
    parser.add_argument("work", type=Path)
    a = parser.parse_args()
    heavy = a.work / "heavy"
    shutil.rmtree(heavy, ignore_errors=True)
    shutil.copytree(a.demo, heavy)
    make_heavy(heavy)
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path=CHROMIUM, args=ARGS, chromium_sandbox=os.getuid() != 0)
        with served(a.demo) as url:
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.add_init_script(path=WORLD)
            project = next(x for x in page.request.get(f"{url}/api/v1/projects").json() if x["best_layer"])["id"]
            for name in ("first time", "again"):
                page.goto("about:blank")
                page.goto(f"{url}/projects/{project}/texture", wait_until="commit")
                page.wait_for_load_state("domcontentloaded")
                code = page.evaluate("() => performance.now()")
                seen, still = page.evaluate(FIRST_PICTURE)
                print(
                    f"demo ({name}): page's code after {code / 1000:.2f} s, first picture (a still) {(still - code) / 1000:.2f} s later, "
                    f"the mesh itself {(seen - code) / 1000:.2f} s later"
                )
            page.close()
        with served(heavy) as url:
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.add_init_script(path=WORLD)
            page.goto(f"{url}/projects/{project}/photos")
            page.locator(".ph img").first.wait_for()
            page.locator(".sheet").evaluate("e => e.scrollTop = 0")
            page.locator('.ph[title="a_large.jpg"]').click()
            page.wait_for_timeout(4000)
            began = page.evaluate("() => performance.now()")
            page.get_by_role("button", name="1:1").click()
            page.wait_for_function(
                "() => { const k = [...document.querySelectorAll('.tile')]; return k.length && k.every(i => i.complete && i.naturalWidth) }",
                polling=10,
            )
            print(f"1:1 of a 24 megapixel photo: {page.evaluate('() => performance.now()') - began:.0f} ms")
            for key, name, ready in (
                ("5", "2 M points", "w.clouds.points"),
                ("7", "mesh", "w.parts.mesh.children.length"),
            ):
                page.keyboard.press(key)
                page.wait_for_function(f"() => {{ const w = window.vqWorld; return w && {ready} }}", timeout=120_000)
                page.wait_for_timeout(9000)
                rate, longest = turn(page)
                page.wait_for_timeout(5000)
                whole = page.evaluate("() => !window.vqWorld.lighter.reduced")
                print(f"turning {name}: {rate:.1f} frames a second, longest {longest:.2f} s; whole when still: {whole}")
            page.close()
        browser.close()
        # the contact sheet without a 3D view: drawn by the browser's own software compositor
        browser = p.chromium.launch(
            executable_path=CHROMIUM, args=["--disable-gpu", *ARGS[2:]], chromium_sandbox=os.getuid() != 0
        )
        with served(heavy) as url:
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.add_init_script(path=WORLD)
            page.goto(f"{url}/projects/{project}/photos")
            page.locator(".ph img").first.wait_for()
            began = time.monotonic()
            cache = heavy / "projects" / str(project) / "cache"
            while len(list(cache.glob("thumb-*"))) < 1000 and time.monotonic() - began < 240:
                time.sleep(0.5)
            print(f"thumbnails of 1,000 photos in the background: {time.monotonic() - began:.0f} s")
            frames = np.array(page.evaluate(SCROLL))
            print(
                f"scrolling: {len(frames)} frames, median {np.median(frames):.0f} ms, longest {frames.max():.0f} ms, {(frames > 50).sum()} over 50 ms"
            )
            page.close()
        browser.close()


if __name__ == "__main__":
    main()
