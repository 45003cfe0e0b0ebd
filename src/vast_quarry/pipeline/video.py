"""Frames from video as photos: chosen, written as JPEG with their source in EXIF, and listed."""

from __future__ import annotations

import io
import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write, write_json
from vast_quarry.core.photo.choice import choose
from vast_quarry.core.photo.frames import By, Scan, laps
from vast_quarry.core.photo.packets import list_packets
from vast_quarry.core.photo.reading import resized
from vast_quarry.core.photo.skim import look_over
from vast_quarry.core.photo.video import VideoInfo, cropped, probe, take_frames
from vast_quarry.core.progress import Progress, silent
from vast_quarry.core.words import say

#: most frames that are taken at once
MOST = 5000


Crop = tuple[int, int, int, int]


@dataclass(frozen=True)
class Choice:
    """How frames are chosen; ``ranges`` in seconds, ``crop`` in pixels at the left, top, right and bottom edge."""

    by: By = "motion"
    #: by motion: most degrees about the subject between neighbours
    degrees: float = 10.0
    step: int = 10
    rate: float = 2.0
    count: int = 60
    ranges: tuple[tuple[float, float], ...] = ()
    crop: Crop = (0, 0, 0, 0)
    one_turn: bool = False
    #: crops of single ranges, in their order; None where that of all counts
    crops: tuple[Crop | None, ...] = ()

    #: frames are made smaller by this
    scale: float = 1.0

    def crop_at(self, time: float) -> Crop:
        """What is cut off a frame at a time (s)."""
        for (a, b), crop in zip(self.ranges, self.crops):
            if crop is not None and a - 1e-6 <= time <= b + 1e-6:
                return crop
        return self.crop


def look_through(video: Path, info: VideoInfo, choice: Choice, progress: Progress = silent) -> Scan:
    """Scan a video. Only to choose frames by motion, or to find laps, need they be seen."""
    packets = list_packets(video) if choice.by != "motion" and not choice.one_turn else None
    if packets is not None:
        none, shown = np.zeros(0), np.sort(packets.seconds)
        blank = np.zeros((0, 1), np.float32)
        return Scan(np.zeros(0, np.int64), none, np.zeros((0, 2)), none, none, blank, blank, shown)
    total = max(info.frames, 1)
    found = look_over(video, info, lambda seen: progress(min(seen.number, total), total))
    if not len(found.number):
        raise PlainError(
            say("{name} holds no picture that can be read.", name=video.name), "Copy it again from the camera."
        )
    return found


def chosen_frames(found: Scan, choice: Choice) -> list[list[int]]:
    """Frame numbers to take, a list for each lap where laps are wanted and found, else one list.

    Raises
    ------
    PlainError
        When none is left, or far too many.
    """
    ranges = list(choice.ranges)
    turns = laps(found) if choice.one_turn else []
    kept = [(float(found.time[a]), float(found.time[b])) for a, b in turns]
    # of a lap only what is kept
    parts = [[(max(a, x), min(b, y)) for a, b in ranges or [(x, y)] if a < y and b > x] for x, y in kept] or [ranges]
    out = [choose(found, choice.by, choice.degrees, choice.step, choice.rate, choice.count, part) for part in parts]
    total = sum(len(x) for x in out)
    if not total:
        raise PlainError("No frame of the video is chosen.", "Keep a longer range, or choose in another way.")
    if total > MOST:
        raise PlainError(
            say("{total} frames would be taken; {most} are the most.", total=total, most=MOST), "Take fewer."
        )
    return out


def jpeg_frame(rgb: Any, video: str, number: int, time: float, full: Sequence[int], crop: Sequence[int]) -> bytes:
    """A frame as JPEG; where it comes from is told in EXIF (ImageDescription in words, UserComment as JSON)."""
    exif = Image.Exif()
    exif[0x010E] = f"frame {number} of {video} at {time:.3f} s".encode("ascii", "replace").decode()
    source = {"video": video, "frame": number, "time": round(time, 6), "full": list(full), "crop": list(crop)}
    exif.get_ifd(0x8769)[0x9286] = b"ASCII\0\0\0" + json.dumps(source).encode("ascii")
    out = io.BytesIO()
    Image.fromarray(rgb).save(out, format="JPEG", quality=95, subsampling=0, exif=exif)
    return out.getvalue()


def extract(
    video: Path,
    out: Path,
    parts: Sequence[Sequence[int]],
    choice: Choice,
    info: VideoInfo,
    progress: Progress = silent,
    prefix: str = "",
) -> list[dict[str, Any]]:
    """Write chosen frames into a folder; rows of ``frames.json`` come back."""
    lap_of = {n: k for k, part in enumerate(parts) for n in part}
    numbers = sorted(lap_of)
    rows: list[dict[str, Any]] = []
    for number, time, rgb in take_frames(video, numbers, info.aspect):
        crop = choice.crop_at(time)
        progress(len(rows), len(numbers))
        lap = f"lap{lap_of[number] + 1}_" if len(parts) > 1 else ""
        name = f"{prefix}{lap}frame_{number:06d}.jpg"
        with atomic_write(out / name) as f:
            full = rgb.shape[1], rgb.shape[0]
            # smaller after cropping: what is told of the whole frame is made smaller with it
            small = resized(cropped(rgb, crop), choice.scale)
            told = [[round(x * choice.scale) for x in side] for side in (full, crop)]
            f.write(jpeg_frame(small, video.name, number, time, *told))
        row: dict[str, Any] = {"photo": name, "frame": number, "time": round(time, 6)}
        rows.append(row | ({"set": f"lap {lap_of[number] + 1}"} if len(parts) > 1 else {}))
    progress(len(numbers), len(numbers))
    return rows


def frames_of(video: Path, out: Path, choice: Choice, progress: Progress = silent) -> list[dict[str, Any]]:
    """Look through a video, take frames into ``out``, and list them in ``frames.json``."""
    info = probe(video)
    found = look_through(video, info, choice, lambda d, t: progress(0.7 * d / t, 1.0))
    parts = chosen_frames(found, choice)
    out.mkdir(parents=True, exist_ok=True)
    rows = extract(video, out, parts, choice, info, lambda d, t: progress(0.7 + 0.3 * d / t, 1.0))
    write_json(out / "frames.json", {"video": video.name, "crop": list(choice.crop), "frames": rows})
    return rows
