"""Broken and hostile files of every kind that is read, sent to a real server. Prints what it answered, how long it took, its memory.

.venv/bin/python benchmarks/hostile.py WORK [--count 500] [--seed 1]
"""

from __future__ import annotations

import argparse
import io
import json
import shutil
import struct
import time
import zlib
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import av
import httpx
import numpy as np
import psutil
from benchmarks.kills import Server
from PIL import Image

from vast_quarry.core.formats.gltf import write_glb
from vast_quarry.core.formats.ply import PlyData, write_ply
from vast_quarry.core.formats.stl import write_stl

#: a file's name and body, and what it is sent as: photo, mask, video, mesh
Sent = tuple[str, bytes, str]


def _picture(form: str, seed: int, **more: object) -> bytes:
    out = io.BytesIO()
    rgb = np.random.default_rng(seed).integers(0, 255, (96, 128, 3), np.uint8)
    exif = Image.Exif()
    exif[0x0110], exif[0x0112] = "Practice", 6
    exif.get_ifd(0x8769)[0x920A] = 35.0
    Image.fromarray(rgb).save(out, form, exif=exif, **more)
    return out.getvalue()


def _film(form: str, work: Path) -> bytes:
    file = work / f"film.{form}"
    with av.open(str(file), "w") as container:
        stream = container.add_stream("mpeg4", rate=25)
        stream.width, stream.height, stream.pix_fmt = 128, 96, "yuv420p"
        for k in range(12):
            rgb = np.random.default_rng(k).integers(0, 255, (96, 128, 3), np.uint8)
            container.mux(stream.encode(av.VideoFrame.from_ndarray(rgb, format="rgb24")))
        container.mux(stream.encode())
    return file.read_bytes()


def _meshes(work: Path) -> dict[str, bytes]:
    v = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]], float)
    f = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    n = np.tile([0.0, 0, 1], (4, 1))
    write_ply(work / "m.ply", PlyData(v, n.astype(np.float32), None, f))
    write_stl(work / "m.stl", v, f)
    write_glb(work / "m.glb", v, n, np.zeros((4, 2)), f, _picture("JPEG", 1))
    obj = "".join(f"v {a} {b} {c}\n" for a, b, c in v) + "".join(f"f {a + 1} {b + 1} {c + 1}\n" for a, b, c in f)
    return {
        "ply": (work / "m.ply").read_bytes(),
        "stl": (work / "m.stl").read_bytes(),
        "glb": (work / "m.glb").read_bytes(),
        "obj": obj.encode(),
    }


def seeds(work: Path) -> list[Sent]:
    """Good files, one of each kind, which harm is done to."""
    work.mkdir(parents=True, exist_ok=True)
    heic = Path(__file__).parents[1] / "tests" / "data" / "ramp.heic"
    out: list[Sent] = [
        ("a.jpg", _picture("JPEG", 1), "photo"), ("a.png", _picture("PNG", 2), "photo"), ("a.tif", _picture("TIFF", 3), "photo"),
        ("b.tif", _picture("TIFF", 3, compression="tiff_lzw"), "photo"), ("a.webp", _picture("WEBP", 4), "photo"),
        ("a.heic", heic.read_bytes(), "photo"), ("a.dng", _picture("TIFF", 5), "photo"), ("a.cr2", _picture("TIFF", 6), "photo"),
        ("m.png", _picture("PNG", 7), "mask"),
    ]  # fmt: skip
    out += [(f"f.{form}", _film(form, work), "video") for form in ("mp4", "mov", "mkv", "avi")]
    out += [(f"s.{form}", body, "mesh") for form, body in _meshes(work).items()]
    return out


def _bomb(width: int, height: int) -> bytes:
    """A small PNG that says it is huge, and packs so many zeros."""

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    packer = zlib.compressobj(9)
    zeros = b"".join(packer.compress(bytes(1_000_000)) for _ in range(40)) + packer.flush()
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zeros) + chunk(b"IEND", b"")


def made(work: Path) -> list[Sent]:
    """Files made to harm."""
    loop = b"II*\0\x08\0\0\0" + struct.pack("<H", 1) + struct.pack("<HHII", 0x8769, 4, 1, 8) + struct.pack("<I", 8)
    deep = b'{"asset":{"version":"2.0"},"nodes":' + b"[" * 100_000 + b"]" * 100_000 + b"}"
    glb = struct.pack("<4sIIII", b"glTF", 2, 20 + len(deep), len(deep), 0x4E4F534A) + deep
    many = b"ply\nformat binary_little_endian 1.0\nelement vertex 4000000000\nproperty float x\nproperty float y\nproperty float z\nelement face 4000000000\nproperty list uchar int vertex_indices\nend_header\n"
    return [
        ("bomb.png", _bomb(14_000, 14_000), "photo"), ("larger.png", _bomb(60_000, 60_000), "photo"), ("bomb-mask.png", _bomb(30_000, 30_000), "mask"),
        ("loop.tif", loop, "photo"), ("loop.dng", loop, "photo"), ("empty.jpg", b"", "photo"), ("empty.mp4", b"", "video"), ("empty.ply", b"", "mesh"),
        ("deep.glb", glb, "mesh"), ("many.ply", many, "mesh"), ("text.jpg", b"hello" * 1000, "photo"), ("page.png", b"<svg onload=alert(1)>", "photo"),
        ("../../out.jpg", _picture("JPEG", 9), "photo"), ("list.mp4", b"ffconcat version 1.0\nfile /etc/passwd\n", "video"),
        ("list.mkv", b"#EXTM3U\n#EXTINF:1,\nhttp://127.0.0.1:9/x\n", "video"), ("nul\0.jpg", _picture("JPEG", 8), "photo"),
        ("s.obj", b"v nan inf -inf\n" * 10 + b"f 1 2 99999999999\nf -1 -2 -3\n", "mesh"), ("s.stl", b"solid x\n" * 5000, "mesh"),
    ]  # fmt: skip


def harmed(good: list[Sent], rng: np.random.Generator) -> Iterator[Sent]:
    """Endless: good files cut, with bytes or lengths changed, pieces put elsewhere, or under another kind's name."""
    while True:
        name, body, kind = good[int(rng.integers(len(good)))]
        b = bytearray(body)
        how = int(rng.integers(6))
        if how == 0:
            b = b[: int(rng.integers(1, len(b)))]
        elif how == 1:
            for _ in range(int(rng.integers(1, 30))):
                b[int(rng.integers(len(b)))] = int(rng.integers(256))
        elif how == 2:  # what says how long or large something is stands in the first bytes
            for _ in range(int(rng.integers(1, 6))):
                k = int(rng.integers(min(len(b), 400) - 4))
                b[k : k + 4] = rng.choice([b"\xff\xff\xff\xff", b"\x7f\xff\xff\xff", b"\0\0\0\0", b"\0\0\xff\xff"])
        elif how == 3:
            a, n = int(rng.integers(len(b))), int(rng.integers(1, 400))
            b = b[:a] + b[a : a + n] * 3 + b[a + n :]
        elif how == 4:
            other = good[int(rng.integers(len(good)))][1]
            b = b[: len(b) // 2] + bytearray(other[len(other) // 2 :])
        else:
            b = bytearray(good[int(rng.integers(len(good)))][1])
        yield name, bytes(b), kind


def send(http: httpx.Client, project: int, sent: Sent) -> list[tuple[str, int, float]]:
    """Send a file, and ask for all that the page would ask of it; the requests, their answers and seconds."""
    name, body, kind = sent
    base = f"/api/v1/projects/{project}"
    out = []

    def ask(what: str, method: str, path: str, **more: object) -> httpx.Response:
        began = time.monotonic()
        answer = http.request(method, path, **more)  # type: ignore[arg-type]
        out.append((what, answer.status_code, time.monotonic() - began))
        return answer

    if kind == "photo":
        taken = ask("photo", "POST", f"{base}/photos", files=[("files", (name, body))]).json().get("taken", [])
        ask("list", "GET", f"{base}/photos")
        for path in taken:
            for what in ("thumb", "full", "tile", "toned", "histogram"):
                ask(
                    what, "GET", f"{base}/photos/{what}", params={"path": path, "side": 240, "level": 0, "x": 0, "y": 0}
                )
    elif kind == "mask":
        ask("mask", "POST", f"{base}/photos/masks", files=[("files", (name, body))])
    elif kind == "video":
        ask("video", "POST", f"{base}/videos", files=[("file", (name, body))])
        ask("videos", "GET", f"{base}/videos")
    else:
        ask("mesh", "POST", f"{base}/plan/mesh", files=[("file", (name, body))])
    return out


def main() -> None:
    """Send and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--count", type=int, default=500)
    parser.add_argument("--seed", type=int, default=1)
    a = parser.parse_args()
    shutil.rmtree(a.work, ignore_errors=True)
    files = made(a.work)
    more = harmed(seeds(a.work / "seeds"), np.random.default_rng(a.seed))
    files += [next(more) for _ in range(a.count - len(files))]
    server = Server(a.work / "data")
    http = server.start()
    assert server.process is not None
    me = psutil.Process(server.process.pid)
    answers: Counter[int] = Counter()
    slowest, peak, wrong = 0.0, 0, []
    project = 0
    for k, sent in enumerate(files):
        if k % 50 == 0:
            project = int(http.post("/api/v1/projects", json={"name": f"Hostile {k}", "grade": "rough"}).json()["id"])
        for what, status, seconds in send(http, project, sent):
            answers[status] += 1
            slowest = max(slowest, seconds)
            if status >= 500 or seconds > 20:
                wrong.append((sent[0], what, status, round(seconds, 1)))
                (a.work / f"wrong-{k}-{Path(sent[0]).name}").write_bytes(sent[1])
        peak = max(peak, me.memory_info().rss)
    # the worker gets them too: every job ends
    for number in [p["id"] for p in http.get("/api/v1/projects").json()]:
        http.post(f"/api/v1/projects/{number}/photos/judge")
        http.post(f"/api/v1/projects/{number}/layers/photos/run")
    began = time.monotonic()
    while jobs := [j for j in http.get("/api/v1/jobs").json() if j["state"] in ("queued", "running")]:
        if time.monotonic() - began > 900:
            wrong.append(("jobs", json.dumps([j["id"] for j in jobs]), 0, 900.0))
            break
        time.sleep(0.5)
    states = Counter((j["kind"], j["state"]) for j in http.get("/api/v1/jobs").json())
    inside = [j["message"] for j in http.get("/api/v1/jobs").json() if "inside the program" in j["message"]]
    print(f"{len(files)} files, {sum(answers.values())} requests: {dict(sorted(answers.items()))}")
    print(f"slowest {slowest:.1f} s; server's memory {peak / 1e6:.0f} MB at most; it is alive: {me.is_running()}")
    print(f"jobs: {dict(states)}; failed inside the program: {inside[:5]}")
    for row in wrong:
        print("wrong:", *row)
    server.kill("both")


if __name__ == "__main__":
    main()
