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
from vast_quarry.core.photo.packets import Packets, decoded, decoder, list_packets, open_video
from vast_quarry.core.words import say

T = TypeVar("T")

VIDEO_ENDINGS = {".mp4", ".mov", ".m4v", ".avi", ".mkv", ".webm", ".mpg", ".mpeg", ".mts", ".m2ts", ".3gp", ".wmv"}
#: longer side of small pictures in colour
SMALL_SIDE = 640


@dataclass(frozen=True)
class VideoInfo:
    """What a video holds: size as seen upright, frames a second (mean), seconds, frames (0 when the file does not say).

    ``aspect`` is how much wider than high its pixels are.
    """

    width: int
    height: int
    rate: float
    seconds: float
    frames: int
    turn: int
    aspect: float = 1.0


@dataclass(frozen=True)
class Seen:
    """A frame that was looked at: number from 0, seconds, grey (H, W), and in colour (h, w, 3) where that was asked for."""

    number: int
    time: float
    grey: NDArray[np.uint8]
    color: NDArray[np.uint8] | None = None


def is_video(path: Path) -> bool:
    """Whether a file is a video by its ending."""
    return path.suffix.lower() in VIDEO_ENDINGS


def find_videos(folder: Path) -> list[Path]:
    """Videos below a folder by their endings, in order; hidden ones are passed over."""
    found = (p for p in folder.rglob("*") if is_video(p) and p.is_file())
    return sorted(p for p in found if not any(part.startswith(".") for part in p.relative_to(folder).parts))


def _pixel_aspect(stream: Any) -> float:
    """How much wider than high the pixels of a video are: some cameras squeeze their pictures."""
    aspect = float(stream.sample_aspect_ratio or stream.codec_context.sample_aspect_ratio or 1)
    return aspect if 0.2 < aspect < 5 else 1.0


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
    av = decoder()

    with open_video(path) as container:
        stream = container.streams.video[0]
        try:
            first = next(container.decode(stream))
        except (StopIteration, av.FFmpegError) as error:
            raise PlainError(
                say("{name} holds no picture that can be read.", name=path.name), "Copy it again from the camera."
            ) from error
        turn = int(getattr(first, "rotation", 0) or 0)
        aspect = _pixel_aspect(stream)
        wide = round(first.width * aspect)
        w, h = (first.height, wide) if turn % 180 else (wide, first.height)
        rate = float(stream.average_rate or stream.guessed_rate or 25)
        seconds = (
            float(stream.duration * stream.time_base) if stream.duration else float((container.duration or 0) / 1e6)
        )
        return VideoInfo(w, h, rate, seconds, int(stream.frames or round(seconds * rate)), turn, aspect)


def each_frame(
    path: Path, every: int, side: int, packets: Packets | None = None, wanted: NDArray[np.bool_] | None = None,
    colored: int = 0, aspect: float = 1.0,
) -> Iterator[Seen]:  # fmt: skip
    """Frames one after the other.

    Parameters
    ----------
    path : Path
    every : int
        Only every so manieth frame.
    side : int
        Longer side of the grey picture.
    packets : Packets, optional
    wanted : (n,) bool, optional
        Which of the packets to decode; all without it.
    colored : int
        Every so manieth of the frames comes with a small colour picture as well; 0: none.
    aspect : float
        How much wider than high pixels are; grey pictures are left as they lie.

    Yields
    ------
    Seen
        A file that breaks off ends them; those before count.
    """
    for count, (number, time, frame) in enumerate(
        x for x in decoded(path, packets, wanted, roughly=True) if x[0] % every == 0
    ):
        turn = int(getattr(frame, "rotation", 0) or 0)
        color = _turned(_small_color(frame, aspect), turn) if colored and count % colored == 0 else None
        yield Seen(number, time, _turned(_grey(frame, side), turn), color)


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


def _small_color(frame: Any, aspect: float) -> NDArray[np.uint8]:
    """A frame in colour made small."""
    scale = min(1.0, SMALL_SIDE / max(frame.width * aspect, frame.height))
    size = {"width": max(2, round(frame.width * aspect * scale)), "height": max(2, round(frame.height * scale))}
    return np.asarray(frame.reformat(**size, format="rgb24").to_ndarray())


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
    path: Path, numbers: Sequence[int], aspect: float = 1.0
) -> Iterator[tuple[int, float, NDArray[np.uint8]]]:
    """Chosen frames: number, seconds, upright RGB (H, W, 3) with square pixels. What none of them needs is not decoded."""
    chosen = set(numbers)
    packets = list_packets(path)
    last = max(chosen, default=-1)
    for number, time, frame in decoded(path, packets, packets.needed_for(chosen) if packets else None):
        if number in chosen:
            rgb = frame.to_ndarray(format="rgb24")
            if aspect != 1.0:
                rgb = cv2.resize(rgb, (round(rgb.shape[1] * aspect), rgb.shape[0]), interpolation=cv2.INTER_CUBIC)
            yield number, time, _turned(rgb, int(getattr(frame, "rotation", 0) or 0))
        if packets is None and number >= last:
            return


def cropped(rgb: NDArray[np.uint8], crop: Sequence[int]) -> NDArray[np.uint8]:
    """A frame without ``crop`` pixels at its left, top, right and bottom edge.

    Raises
    ------
    PlainError
        When nothing is left.
    """
    left, top, right, bottom = crop
    h, w = rgb.shape[:2]
    if left + right >= w - 64 or top + bottom >= h - 64:
        raise PlainError(say("The crop leaves nothing of {w} x {h} pixels.", w=w, h=h), "Crop less.")
    return np.ascontiguousarray(rgb[top : h - bottom, left : w - right])
