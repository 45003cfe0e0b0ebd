"""What the photos of a run hold: a version is known by that, not by where they lie or when they were copied."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import read_json, write_json
from vast_quarry.core.photo.reading import photo_names
from vast_quarry.core.progress import Progress

#: where it is kept what files held when they were last read, beside the versions
KNOWN = "contents.json"
#: files that are read at the same time: disks answer several at once sooner than one after the other
AT_ONCE = 4


class Held(NamedTuple):
    """A file by its folder and its name in it, and what it holds; ``"?"`` where it cannot be read."""

    folder: Path
    name: str
    content: str


def stamp_of(held: Iterable[Held]) -> str:
    """What files hold, whatever folder they lie in."""
    return "\n".join(f"{h.name}|{h.content}" for h in held)


def content_of(path: Path) -> str:
    """What a file holds, as 24 hexadecimal digits (SHA-256, cut)."""
    with open(path, "rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()[:24]


def folder_contents(
    folders: Iterable[Path],
    known: Path,
    progress: Progress,
    names: Callable[[Path], list[str]] = photo_names,
) -> list[Held]:
    """Photos below some folders, and what each holds.

    Parameters
    ----------
    folders : iterable of Path
        Those that are not there hold nothing.
    known : Path
        File in which it is kept what files held: one whose size, time and place on the disk are as they were is not read again.
    progress : Progress
        Told how many of those that are read are done.
    names : callable
        Files of a folder that count.
    """
    files = [(folder, name) for folder in folders for name in names(folder)]
    paths = [folder / name for folder, name in files]
    try:
        before = read_json(known)
    except PlainError:  # what cannot be read is only read again
        before = {}
    marks = [_mark(path) for path in paths]
    found = {str(path): before.get(str(path)) for path in paths}
    todo = [
        (path, mark) for path, mark in zip(paths, marks) if mark is not None and (found[str(path)] or [None])[0] != mark
    ]
    with ThreadPoolExecutor(AT_ONCE) as pool:
        for k, (file, entry) in enumerate(pool.map(_read, todo)):
            progress(k, len(todo))
            found[str(file)] = entry
    if todo:
        # files that are gone are forgotten
        write_json(known, {name: entry for name, entry in found.items() if entry}, durable=False)
    return [
        Held(folder, name, "?" if mark is None else str((found[str(folder / name)] or [None, "?"])[1]))
        for (folder, name), mark in zip(files, marks)
    ]


def _mark(file: Path) -> str | None:
    try:
        s = file.stat()
    except OSError:
        return None
    return f"{s.st_size}|{s.st_mtime_ns}|{s.st_ino}"


def _read(item: tuple[Path, str]) -> tuple[Path, list[str] | None]:
    file, mark = item
    try:
        return file, [mark, content_of(file)]
    except OSError:
        return file, None
