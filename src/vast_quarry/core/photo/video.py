"""Video as a source of photos: what a file holds, looking through it quickly, and taking single frames.

Frames are counted from 0 as they are decoded; their times come from the file, so that a varying frame rate is right.
A turn that the file asks for (a phone held upright) is applied.
"""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError

T = TypeVar("T")

VIDEO_ENDINGS = {".mp4", ".mov", ".m4v", ".avi", ".mkv", ".webm", ".mpg", ".mpeg", ".mts", ".m2ts", ".3gp", ".wmv"}
#: larger pictures are not decoded (pixels)
LARGEST = 70_000_000


@dataclass(frozen=True)
class VideoInfo:
    """What a video holds: size as seen upright, frames a second (mean), seconds, frames (0 when the file does not say)."""

    width: int
    height: int
    rate: float
    seconds: float
    frames: int
    turn: int


def is_video(path: Path) -> bool:
    """Whether a file is a video by its ending."""
    return path.suffix.lower() in VIDEO_ENDINGS


def _open(path: Path) -> Any:
    import av

    try:
        container = av.open(str(path), metadata_errors="replace")
    except FileNotFoundError as error:
        raise PlainError(f"There is no file {path}.", "Check the path.") from error
    except (av.FFmpegError, OSError, ValueError) as error:
        raise PlainError(f"{path.name} is no video that can be read.", "Export it as MP4.") from error
    if not container.streams.video:
        container.close()
        raise PlainError(f"{path.name} holds no pictures, only sound or data.", "Choose another file.")
    stream = container.streams.video[0]
    if stream.width * stream.height > LARGEST:
        container.close()
        raise PlainError(
            f"The pictures of {path.name} have {stream.width} x {stream.height} pixels.", "Export it smaller."
        )
    stream.thread_type = "AUTO"
    return container


def _turned(picture: NDArray, turn: int) -> NDArray:
    """A picture turned anticlockwise by quarter turns."""
    return np.ascontiguousarray(np.rot90(picture, (turn // 90) % 4)) if turn % 360 else picture


def probe(path: Path) -> VideoInfo:
    """What a video holds.

    Raises
    ------
    PlainError
        When it is none.
    """
    import av

    with _open(path) as container:
        stream = container.streams.video[0]
        try:
            first = next(container.decode(stream))
        except (StopIteration, av.FFmpegError) as error:
            raise PlainError(
                f"{path.name} holds no picture that can be read.", "Copy it again from the camera."
            ) from error
        turn = int(getattr(first, "rotation", 0) or 0)
        w, h = (first.height, first.width) if turn % 180 else (first.width, first.height)
        rate = float(stream.average_rate or stream.guessed_rate or 25)
        seconds = (
            float(stream.duration * stream.time_base) if stream.duration else float((container.duration or 0) / 1e6)
        )
        return VideoInfo(w, h, rate, seconds, int(stream.frames or round(seconds * rate)), turn)


def each_frame(
    path: Path, every: int = 1, side: int | None = None, ranges: Sequence[tuple[float, float]] = ()
) -> Iterator[tuple[int, float, NDArray[np.uint8]]]:
    """Frames with their numbers and times (s): upright RGB (H, W, 3), or grey (H, W) with a longer side of ``side``.

    A file that breaks off ends the frames; those before count.
    """
    import av

    begin = min((a for a, _ in ranges), default=0.0)
    end = max((b for _, b in ranges), default=float("inf"))
    with _open(path) as container:
        stream = container.streams.video[0]
        frames = container.decode(stream)
        number = -1
        while True:
            try:
                frame = next(frames)
            except (StopIteration, av.FFmpegError):
                return
            number += 1
            time = float(frame.time) if frame.time is not None else number / float(stream.average_rate or 25)
            if time > end + 1e-6:
                return
            if number % every or time < begin - 1e-6:
                continue
            if ranges and not any(a - 1e-6 <= time <= b + 1e-6 for a, b in ranges):
                continue
            turn = int(getattr(frame, "rotation", 0) or 0)
            if side is None:
                yield number, time, _turned(frame.to_ndarray(format="rgb24"), turn)
            else:
                yield number, time, _turned(_grey(frame, side), turn)


def ahead(frames: Iterator[T], many: int = 6) -> Iterator[T]:
    """The same frames, decoded in a thread of its own while the last one is worked on."""
    ready: queue.Queue[tuple[str, Any]] = queue.Queue(many)
    over = threading.Event()

    def put(kind: str, value: Any) -> bool:
        while not over.is_set():
            try:
                ready.put((kind, value), timeout=0.2)
                return True
            except queue.Full:
                continue
        return False

    def decode() -> None:
        try:
            for frame in frames:
                if not put("frame", frame):
                    return
            put("end", None)
        except BaseException as error:  # told to whoever waits for frames
            put("error", error)

    thread = threading.Thread(target=decode, daemon=True)
    thread.start()
    try:
        while True:
            kind, value = ready.get()
            if kind == "error":
                raise value
            if kind == "end":
                return
            yield value
    finally:
        over.set()
        thread.join(5)


def _grey(frame: Any, side: int) -> NDArray[np.uint8]:
    """The brightness of a frame made small: the first plane as it lies, without changing colours."""
    if frame.format.name in ("yuv420p", "yuvj420p", "yuv422p", "yuvj422p", "nv12"):
        plane = frame.planes[0]
        y = np.frombuffer(plane, np.uint8).reshape(-1, plane.line_size)[: frame.height, : frame.width]
    else:
        y = frame.to_ndarray(format="gray")
    scale = side / max(y.shape)
    if scale >= 1:
        return np.ascontiguousarray(y)
    size = max(1, round(y.shape[1] * scale)), max(1, round(y.shape[0] * scale))
    # by whole steps first: averaging a large picture takes longer than decoding it
    step = max(1, int(0.5 / scale))
    return np.asarray(cv2.resize(np.ascontiguousarray(y[::step, ::step]), size, interpolation=cv2.INTER_AREA))


def take_frames(
    path: Path, numbers: Sequence[int], crop: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> Iterator[tuple[int, float, NDArray[np.uint8]]]:
    """Chosen frames (by number, upright RGB), without ``crop`` pixels at the left, top, right and bottom edge.

    Raises
    ------
    PlainError
        When the crop leaves nothing.
    """
    wanted = set(numbers)
    left, top, right, bottom = crop
    import av

    with _open(path) as container:
        stream = container.streams.video[0]
        last = max(wanted, default=-1)
        frames = container.decode(stream)
        for number in range(last + 1):
            try:
                frame = next(frames)
            except (StopIteration, av.FFmpegError):
                return
            if number not in wanted:
                continue
            turn = int(getattr(frame, "rotation", 0) or 0)
            rgb = _turned(frame.to_ndarray(format="rgb24"), turn)
            h, w = rgb.shape[:2]
            if left + right >= w - 64 or top + bottom >= h - 64:
                raise PlainError(f"The crop leaves nothing of {w} x {h} pixels.", "Crop less.")
            yield number, float(frame.time or 0.0), np.ascontiguousarray(rgb[top : h - bottom, left : w - right])
