"""The packets of a video: which frames they hold, and decoding only those that are needed.

A stream is made of groups: a picture that stands by itself, and those that build on it. A group can be decoded from its
beginning up to any place, so looking at the first part of each is quick, and a single frame costs no more than its group.
What is decoded in part is decoded right: frames refer backwards in the order of decoding (ISO/IEC 14496-10, 23008-2).
"""

from __future__ import annotations

from collections.abc import Iterator, Set
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say

#: larger pictures are not decoded (pixels)
LARGEST = 70_000_000
#: of each group at least so many frames are looked at
LEAST = 4


@dataclass(frozen=True)
class Packets:
    """The packets of a video stream in the order in which they are decoded.

    Attributes
    ----------
    pts : (n,)
        When each is shown, in the stream's own unit.
    number : (n,)
        Number of its frame as frames are shown, from 0.
    seconds : (n,)
        When it is shown.
    key : (n,)
        Whether it stands by itself.
    """

    pts: NDArray[np.int64]
    number: NDArray[np.int64]
    seconds: NDArray[np.float64]
    key: NDArray[np.bool_]

    @property
    def begins(self) -> NDArray[np.int64]:
        """Where groups begin, and the end."""
        return np.append(np.flatnonzero(self.key), len(self.key))

    @property
    def group(self) -> NDArray[np.int64]:
        """Which group each packet (n,) belongs to."""
        return np.cumsum(self.key) - 1

    @property
    def open_groups(self) -> bool:
        """Whether pictures are decoded after a group has begun that are shown before its first one."""
        return bool((self.pts < self.pts[self.key][self.group]).any())

    def group_seconds(self) -> float:
        """Usual length of a group."""
        return float(np.median(np.diff(np.append(self.seconds[self.key], self.seconds.max()))))

    def first_of_groups(self, share: float) -> NDArray[np.bool_]:
        """Packets (n,) of the first part of each group."""
        begins = self.begins
        length = np.diff(begins)
        of = self.group
        place = np.arange(len(self.key)) - begins[of]
        return np.asarray(place < np.maximum(np.ceil(share * length), LEAST)[of])

    def needed_for(self, numbers: Set[int]) -> NDArray[np.bool_]:
        """Packets (n,) that have to be decoded to see frames of these numbers."""
        wanted = np.isin(self.number, np.fromiter(numbers, np.int64, len(numbers)))
        out = np.zeros(len(self.key), bool)
        for a, b in zip(self.begins[:-1], self.begins[1:]):
            inside = np.flatnonzero(wanted[a:b])
            if len(inside):
                out[a : a + inside[-1] + 1] = True
        if self.open_groups:  # what is shown before a group's first picture builds on the group before
            shown_before = out & (self.pts < self.pts[self.key][self.group]) & wanted
            for k in np.flatnonzero(shown_before):
                out[self.begins[max(0, self.group[k] - 1)] : k + 1] = True
        return out


#: containers that are films, on this disk: lists of other files, addresses and made-up sources are nothing that is read
_ONLY = {
    "protocol_whitelist": "file",
    "format_whitelist": "mov,mp4,m4a,3gp,3g2,mj2,matroska,webm,avi,mpeg,mpegts,asf",
}


def decoder() -> Any:
    """The package that reads films.

    Raises
    ------
    PlainError
        When it is not installed: it may be left away (``docs/dependencies.md``).
    """
    try:
        import av
    except ImportError as error:
        raise PlainError(
            "Films cannot be read: PyAV is not installed.", "Install it, or take single photos."
        ) from error
    return av


def open_video(path: Path) -> Any:
    """An opened container with a video stream.

    Raises
    ------
    PlainError
        When the file is none, or its pictures are too large.
    """
    av = decoder()

    try:
        container = av.open(f"file:{path}", options=_ONLY, metadata_errors="replace")
    except FileNotFoundError as error:
        raise PlainError(say("There is no file {path}.", path=path), "Check the path.") from error
    except (av.FFmpegError, OSError, ValueError) as error:
        raise PlainError(say("{name} is no video that can be read.", name=path.name), "Export it as MP4.") from error
    if not container.streams.video:
        container.close()
        raise PlainError(say("{name} holds no pictures, only sound or data.", name=path.name), "Choose another file.")
    stream = container.streams.video[0]
    if stream.width * stream.height > LARGEST:
        container.close()
        raise PlainError(
            say(
                "The pictures of {name} have {width} x {height} pixels.",
                name=path.name,
                width=stream.width,
                height=stream.height,
            ),
            "Export it smaller.",
        )
    stream.thread_type = "AUTO"
    return container


def list_packets(path: Path) -> Packets | None:
    """The packets of a video; None where the file does not say when they are shown, or where groups begin."""
    av = decoder()

    pts, key = [], []
    with open_video(path) as container:
        stream = container.streams.video[0]
        unit = float(stream.time_base or 0)
        try:
            for packet in container.demux(stream):
                if packet.size and not packet.is_discard:
                    if packet.pts is None:
                        return None
                    pts.append(int(packet.pts))
                    key.append(bool(packet.is_keyframe))
        except (av.FFmpegError, OSError):
            pass  # a file that breaks off: what came before counts
    shown = np.array(pts, np.int64)
    if not pts or not key[0] or not unit or len(np.unique(shown)) < len(shown):
        return None
    number = np.empty(len(shown), np.int64)
    number[np.argsort(shown)] = np.arange(len(shown))
    return Packets(shown, number, np.asarray(shown * unit, np.float64), np.array(key))


def decoded(
    path: Path, packets: Packets | None = None, wanted: NDArray[np.bool_] | None = None, roughly: bool = False
) -> Iterator[tuple[int, float, Any]]:
    """Frames as they are decoded: number, seconds, frame; only of ``wanted`` ones of the ``packets``, where they are given.

    ``roughly`` leaves out smoothing the edges of blocks, which takes a sixth of the time and does not show in small
    pictures.

    Raises
    ------
    PlainError
        When the file is no video.
    """
    av = decoder()

    with open_video(path) as container:
        stream = container.streams.video[0]
        rate = float(stream.average_rate or 25)
        if roughly:
            stream.codec_context.options = {"skip_loop_filter": "all"}
        if wanted is None or packets is None:
            number, later, last = -1, 0.0, -1.0
            try:
                for frame in container.decode(stream):
                    number += 1
                    time = float(frame.time) if frame.time is not None else number / rate
                    if time + later <= last:  # recordings put one after the other begin anew
                        later = last + 1 / rate - time
                    last = time + later
                    yield number, last, frame
            except av.FFmpegError:
                pass
            return
        known = dict(zip(packets.pts.tolist(), zip(packets.number.tolist(), packets.seconds.tolist())))
        apart, cut, k = packets.open_groups, False, -1
        last = int(np.flatnonzero(wanted)[-1]) if wanted.any() else -1
        try:
            for packet in container.demux(stream):
                if packet.size and not packet.is_discard:
                    k += 1
                    if k > last:
                        break
                    if packets.key[k] and wanted[k] and cut and apart:
                        # what builds on pictures that were left out must not be made up
                        yield from _told(stream.codec_context.decode(None), known)
                        stream.codec_context.flush_buffers()
                        cut = False
                    if not wanted[k]:
                        cut = True
                        continue
                elif packet.size:
                    continue
                yield from _told(packet.decode(), known)
            yield from _told(stream.codec_context.decode(None), known)
        except (av.FFmpegError, EOFError):
            return


def _told(frames: Any, known: dict[int, tuple[int, float]]) -> Iterator[tuple[int, float, Any]]:
    for frame in frames:
        if frame.pts in known:
            yield *known[frame.pts], frame
