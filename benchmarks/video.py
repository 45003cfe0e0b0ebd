"""How quickly a video is looked through, and what memory that takes.

    .venv/bin/python benchmarks/video.py WORK [--size 3840x2160] [--frames 600] [--codec mpeg4]

Makes a film of a picture that drifts, and looks through it as the Photos layer does. Speed is told against real time.
"""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import psutil

from vast_quarry.cli.rig import parse_size
from vast_quarry.core.photo.frames import SIDE
from vast_quarry.core.photo.skim import look_over
from vast_quarry.core.photo.travel import by_motion
from vast_quarry.core.photo.video import Seen, each_frame, probe


def make(file: Path, width: int, height: int, frames: int, codec: str, group: int) -> None:
    """A picture that drifts as a subject does that turns once in 30 s (pi widths), at 30 frames a second.

    There is a whole picture every ``group`` frames, as phones make them, and each has noise of its own, as sensors have.
    """
    rng = np.random.default_rng(0)
    # as much detail at every size, as pictures of things have
    size = 2 * width, height
    wide = np.full((height, 2 * width, 3), 110, np.float32)
    for period in (6, 12, 24, 48, 96, 192, 384):
        octave = rng.normal(0, 1, (height // period + 2, 2 * width // period + 2, 3)).astype(np.float32)
        wide += 2.2 * period**0.5 * cv2.resize(octave, size, interpolation=cv2.INTER_CUBIC)
    noise = rng.normal(0, 2, (height, width + 997, 1)).astype(np.int8)
    container = av.open(str(file), "w")
    stream: Any = container.add_stream(codec, rate=30)
    stream.width, stream.height, stream.pix_fmt, stream.bit_rate = width, height, "yuv420p", 45_000_000
    options = {"libx264": {"preset": "veryfast", "bf": "0"}, "libx265": {"preset": "ultrafast"}}
    stream.options = {"g": str(group), **options.get(codec, {})}
    if codec == "libx264":
        stream.options |= {"maxrate": "50M", "bufsize": "25M"}
    if codec == "libx265":
        stream.options["x265-params"] = f"keyint={group}:bframes=0:log-level=none"
    for k in range(frames):
        way = np.pi * k / 900
        x = int(width * abs((way + 1) % 2 - 1))
        grain = noise[:, (131 * k) % 997 :][:, :width]
        shown = np.clip(wide[:, x : x + width] + grain, 0, 255).astype(np.uint8)
        frame = av.VideoFrame.from_ndarray(shown, format="rgb24")
        container.mux(stream.encode(frame))
    container.mux(stream.encode())
    container.close()


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("work", type=Path)
    parser.add_argument("--size", default="3840x2160")
    parser.add_argument("--frames", type=int, default=600)
    parser.add_argument("--codec", default="mpeg4")
    parser.add_argument("--group", type=int, default=30)
    a = parser.parse_args()
    a.work.mkdir(parents=True, exist_ok=True)
    width, height = parse_size(a.size)
    file = a.work / f"drift-{a.size}-{a.frames}-{a.codec}-{a.group}.mp4"
    if not file.exists():
        make(file, width, height, a.frames, a.codec, a.group)
    process, peak = psutil.Process(), 0
    info = probe(file)
    before = process.memory_info().rss

    seen = 0

    def watch(_: Seen) -> None:
        nonlocal peak, seen
        seen += 1
        if seen % 50 == 0:
            peak = max(peak, process.memory_info().rss)

    began = time.perf_counter()
    found = look_over(file, info, watch)
    seconds = time.perf_counter() - began
    began = time.perf_counter()
    decoded = sum(1 for _ in each_frame(file, 10_000_000, SIDE))
    plain = time.perf_counter() - began
    print(
        f"{a.size}, {info.frames} frames, {a.codec}: {info.seconds / seconds:.1f} times real time "
        f"({info.frames / seconds:.0f} frames/s, {seen} of {info.frames} looked at; decoding all of it alone {info.frames / plain:.0f}, "
        f"{decoded} kept); "
        f"memory {peak / 1e6:.0f} MB in all, {(peak - before) / 1e6:.0f} MB for this; {len(by_motion(found))} frames by motion"
    )


if __name__ == "__main__":
    main()
