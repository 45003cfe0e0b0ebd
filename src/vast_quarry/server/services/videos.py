"""Videos of a project: looked through once as a job, chosen from at once, frames taken as a job."""

from __future__ import annotations

import os
import re
import threading
from dataclasses import replace
from pathlib import Path
from typing import Any, Literal
from zipfile import BadZipFile

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic import BaseModel, ConfigDict, Field

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import array_shapes, atomic_write, write_arrays
from vast_quarry.core.formats.lock import release, wait_for
from vast_quarry.core.photo.frames import Scan, laps, still_edges
from vast_quarry.core.photo.skim import look_over, look_step
from vast_quarry.core.photo.travel import fit_to_take
from vast_quarry.core.photo.video import VIDEO_ENDINGS, Seen, VideoInfo, is_video
from vast_quarry.core.progress import Cancelled
from vast_quarry.core.words import say
from vast_quarry.pipeline.apart import probe
from vast_quarry.pipeline.step import Reporter
from vast_quarry.pipeline.video import Choice, Crop, chosen_frames, extract
from vast_quarry.server.services import trash
from vast_quarry.server.services.arrivals import arrive
from vast_quarry.server.services.folders import Folders, NotFound
from vast_quarry.server.services.names import clean_name, within
from vast_quarry.server.services.sets import name_set

#: pictures that stand in while somebody drags along a video
PROXIES = 1200


class ChoiceIn(BaseModel):
    """How frames are chosen; times in seconds, crop in pixels at the left, top, right and bottom edge."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    by: Literal["motion", "step", "rate", "count"] = "motion"
    degrees: float = Field(10.0, ge=0.5, le=60)
    step: int = Field(10, ge=1, le=10_000)
    rate: float = Field(2.0, gt=0, le=240)
    count: int = Field(60, ge=2, le=5000)
    ranges: list[tuple[float, float]] = Field(default_factory=list, max_length=50)
    crop: Crop = (0, 0, 0, 0)
    crops: list[Crop | None] = Field(default_factory=list, max_length=50, description="Crops of single ranges")
    one_turn: bool = False
    scale: float = Field(1.0, ge=0.1, le=1)

    def choice(self) -> Choice:
        """As the pipeline takes it."""
        return Choice(
            self.by, self.degrees, self.step, self.rate, self.count, tuple(self.ranges), self.crop, self.one_turn, tuple(self.crops), self.scale,
        )  # fmt: skip


class VideoOut(BaseModel):
    """A video, as told to the page; curves have a value for each proxy picture."""

    name: str
    width: int
    height: int
    rate: float
    seconds: float
    frames: int
    looked: bool
    proxies: int = 0
    times: list[float] = []
    sharp: list[float] = []
    #: of each proxy: whether its frame is neither blurred nor shaken
    fit: list[bool] = []
    laps: list[tuple[float, float]] = []
    crop: tuple[int, int, int, int] = (0, 0, 0, 0)


class ChosenOut(BaseModel):
    """Frames that would be taken, with their times, a list for each lap."""

    count: int
    frames: list[list[int]]
    times: list[list[float]]


def folder_of(folders: Folders) -> Path:
    """Where a project keeps its videos."""
    return folders.root / "videos"


def take_video(folders: Folders, name: str, file: Any) -> str:
    """Keep an uploaded video; the name it has now.

    Raises
    ------
    PlainError
        When it is none.
    """
    clean = clean_name(re.sub(r"[^\w.\- ]", "_", name.replace("\\", "/").rsplit("/", 1)[-1]), "video")
    if not is_video(Path(clean)):
        raise PlainError(
            say("{name} is no video.", name=name), say("Videos end in {list}.", list=", ".join(sorted(VIDEO_ENDINGS)))
        )
    folder = folder_of(folders)
    folder.mkdir(parents=True, exist_ok=True)
    # frames are called by the stem of their video: no two videos share one, whatever their endings
    handle = wait_for(folder / ".names.lock")
    try:
        return arrive(file, within(folder, _free_stem(folder, Path(clean), file)), look=probe).name
    finally:
        release(handle)


def _free_stem(folder: Path, name: Path, file: Any) -> str:
    """The name, or the next like it whose stem no other video there has; ``file`` may have got its name before a kill."""
    own = isinstance(file, Path)
    there = [p for p in folder.iterdir() if is_video(p) and not (own and os.path.samefile(p, file))]
    taken = {p.stem.casefold() for p in there}
    stem, n = name.stem, 0
    while stem.casefold() in taken:
        n += 1
        stem = f"{name.stem} ({n})"
    return stem + name.suffix


def remove(folders: Folders, name: str) -> trash.Removed:
    """Move a video, and all that looking through it gave, into the trash; frames that were taken from it stay."""
    file = video_file(folders, name)
    return trash.put_away(folders, "video", [name], [file, _cache(folders, file)])


def count(folders: Folders) -> int:
    """How many videos a project has."""
    folder = folder_of(folders)
    try:
        return sum(is_video(p) for p in folder.iterdir())
    except OSError:
        return 0


def video_file(folders: Folders, name: str) -> Path:
    """A video of the project.

    Raises
    ------
    NotFound
        When there is none of that name.
    """
    file = folder_of(folders) / name
    if "/" in name or "\\" in name or not is_video(file) or not file.is_file():
        raise NotFound("There is no such video.")
    return file


def _cache(folders: Folders, file: Path) -> Path:
    stat = file.stat()
    return folders.cache / f"video-{file.stem[:40]}-{stat.st_size}-{stat.st_mtime_ns}"


def look(folders: Folders, name: str, reporter: Reporter, cancelled: threading.Event) -> None:
    """Look through a video: a scan to choose from, and small pictures to drag along."""
    file = video_file(folders, name)
    info = probe(file)
    cache = _cache(folders, file)
    cache.mkdir(parents=True, exist_ok=True)
    reporter.begin("photos", "Looking through the video")
    times: list[float] = []
    seen_to = -1

    def watch(seen: Seen) -> None:
        nonlocal seen_to
        if cancelled.is_set():
            raise Cancelled
        text = "Looking through the video" if seen.number > seen_to else "Looking closely"
        seen_to = max(seen_to, seen.number)
        reporter.stage("photos", text, min(seen.number, info.frames), max(info.frames, 1))
        if seen.color is not None:
            with atomic_write(cache / f"{len(times)}.jpg") as out:
                Image.fromarray(seen.color).save(out, format="JPEG", quality=80)
            times.append(seen.time)

    s = look_over(file, info, watch, colored=max(1, round(info.frames / look_step(info) / PROXIES)))
    write_arrays(
        cache / "scan.npz", number=s.number, time=s.time, move=s.move, growth=s.growth, sharp=s.sharp, small=s.small,
        still=s.still, proxies=np.array(times), shown=s.time if s.shown is None else s.shown,
        turned=np.full(len(s.number), np.nan) if s.turned is None else s.turned,
    )  # fmt: skip


def scan_of(folders: Folders, file: Path) -> tuple[Scan, NDArray[np.float64]] | None:
    """What looking through gave, and the times of the small pictures; None when it was not looked through."""
    try:
        with np.load(_cache(folders, file) / "scan.npz") as f:
            names = ("number", "time", "move", "growth", "sharp", "small", "still")
            shown = f["shown"] if "shown" in f.files else f["time"]
            turned = f["turned"] if "turned" in f.files else None
            return replace(Scan(*(f[n] for n in names)), shown=shown, turned=turned), f["proxies"]
    except (OSError, ValueError, KeyError):
        return None


def proxy_file(folders: Folders, name: str, index: int) -> Path:
    """A small picture of a video."""
    file = _cache(folders, video_file(folders, name)) / f"{index}.jpg"
    if not file.is_file():
        raise NotFound("There is no such picture.")
    return file


def first_looked(folders: Folders) -> tuple[str, int] | None:
    """The first video that was looked through, and the number of a small picture of it."""
    folder = folder_of(folders)
    for file in sorted(p for p in folder.iterdir() if is_video(p)) if folder.is_dir() else []:
        try:  # of a scan only how many pictures there are: this is asked for every project of the first page
            count = array_shapes(_cache(folders, file) / "scan.npz")["proxies"][0]
        except (OSError, ValueError, KeyError, BadZipFile):
            continue
        if count:
            return file.name, count // 4
    return None


def list_videos(folders: Folders) -> list[VideoOut]:
    """The project's videos."""
    folder = folder_of(folders)
    return [_told(folders, f) for f in sorted(folder.iterdir()) if is_video(f)] if folder.is_dir() else []


def _told(folders: Folders, file: Path) -> VideoOut:
    info: VideoInfo = probe(file)
    out = VideoOut(
        name=file.name, width=info.width, height=info.height, rate=info.rate, seconds=info.seconds, frames=info.frames, looked=False
    )  # fmt: skip
    known = scan_of(folders, file)
    if known is None:
        return out
    s, times = known
    rows = np.searchsorted(s.time, times - 1e-6).clip(0, len(s.time) - 1)
    out.looked, out.proxies, out.times = True, len(times), [round(float(t), 4) for t in times]
    out.sharp = [round(float(x), 2) for x in s.sharp[rows]]
    out.fit = [bool(x) for x in fit_to_take(s)[rows]]
    out.laps = [(float(s.time[a]), float(s.time[b])) for a, b in laps(s)]
    out.crop = still_edges(s, info.width, info.height)
    return out


def chosen(folders: Folders, name: str, choice: ChoiceIn) -> ChosenOut:
    """Which frames would be taken.

    Raises
    ------
    PlainError
        When the video was not looked through, or none would be.
    """
    file = video_file(folders, name)
    known = scan_of(folders, file)
    if known is None:
        raise PlainError("The video has not been looked through.", "Let it be looked through first.")
    parts = chosen_frames(known[0], choice.choice())
    when = dict(zip(*(x.tolist() for x in known[0].all_frames)))
    times = [[round(when.get(n, 0.0), 4) for n in part] for part in parts]
    return ChosenOut(count=sum(len(p) for p in parts), frames=parts, times=times)


def take(folders: Folders, name: str, choice: ChoiceIn, reporter: Reporter, cancelled: threading.Event) -> int:
    """Take the chosen frames into the project's photos; how many."""
    file = video_file(folders, name)
    parts = chosen(folders, name, choice).frames
    reporter.begin("photos", "Frames from video")
    folders.make()

    def progress(done: float, total: float) -> None:
        if cancelled.is_set():
            raise Cancelled
        reporter.stage("photos", "Taking frames", done, total)

    rows = extract(file, folders.photos, parts, choice.choice(), probe(file), progress, prefix=f"{file.stem}_")
    # each lap is a set of its own; names of sets are short
    short = file.stem if len(file.stem) <= 40 else f"{file.stem[:20]}…{file.stem[-18:]}"
    for lap in sorted({row["set"] for row in rows if "set" in row}):
        name_set(folders, [row["photo"] for row in rows if row.get("set") == lap], f"{short}, {lap}")
    return len(rows)
