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
from vast_quarry.core.photo.frames import SIDE, by_motion, scan
from vast_quarry.core.photo.video import ahead, each_frame, probe


def make(file: Path, width: int, height: int, frames: int, codec: str) -> None:
    """A picture that drifts, at 30 frames a second."""
    rng = np.random.default_rng(0)
    small = rng.integers(0, 255, (height // 16, width // 8, 3), np.uint8)
    wide = cv2.resize(small, (2 * width, height), interpolation=cv2.INTER_CUBIC)
    container = av.open(str(file), "w")
    stream: Any = container.add_stream(codec, rate=30)
    stream.width, stream.height, stream.pix_fmt, stream.bit_rate = width, height, "yuv420p", 45_000_000
    for k in range(frames):
        x = int(width * (0.5 - 0.5 * np.cos(2 * np.pi * k / 400)))
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(wide[:, x : x + width]), format="rgb24")
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
    a = parser.parse_args()
    a.work.mkdir(parents=True, exist_ok=True)
    width, height = parse_size(a.size)
    file = a.work / f"drift-{a.size}-{a.frames}-{a.codec}.mp4"
    if not file.exists():
        make(file, width, height, a.frames, a.codec)
    process, peak = psutil.Process(), 0
    info = probe(file)
    before = process.memory_info().rss

    def watched() -> Any:
        nonlocal peak
        for k, row in enumerate(ahead(each_frame(file, 1, SIDE))):
            if k % 50 == 0:
                peak = max(peak, process.memory_info().rss)
            yield row

    began = time.perf_counter()
    found = scan(watched())
    seconds = time.perf_counter() - began
    began = time.perf_counter()
    decoded = sum(1 for _ in each_frame(file, 10_000_000, SIDE))
    plain = time.perf_counter() - began
    print(
        f"{a.size}, {len(found.number)} frames, {a.codec}: {info.seconds / seconds:.1f} times real time "
        f"({len(found.number) / seconds:.0f} frames/s; decoding alone {len(found.number) / plain:.0f}, {decoded} kept); "
        f"memory {peak / 1e6:.0f} MB in all, {(peak - before) / 1e6:.0f} MB for this; {len(by_motion(found))} frames by motion"
    )


if __name__ == "__main__":
    main()
