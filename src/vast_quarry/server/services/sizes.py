"""How much of the disk a project takes: kept with its versions, counted for what can change."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from vast_quarry.pipeline.registry import STEPS
from vast_quarry.pipeline.store import Version
from vast_quarry.server.services.folders import Folders


@dataclass(frozen=True)
class Sizes:
    """Photos of a project: how many, and the first; and bytes: of everything, and of what can be made again at any time."""

    photos: int
    first: str | None
    total: int
    cache: int


def _files(folder: Path) -> Iterator[os.DirEntry[str]]:
    """All files below a folder that are no longer being written; none where there is no folder, or none that can be read."""
    try:
        entries = list(os.scandir(folder))
    except OSError:
        return
    for entry in entries:
        if entry.is_dir(follow_symlinks=False):
            yield from _files(Path(entry.path))
        elif not entry.name.startswith("."):
            yield entry


def _bytes(folder: Path) -> int:
    total = 0
    for entry in _files(folder):
        try:
            total += entry.stat(follow_symlinks=False).st_size
        except OSError:  # removed just now, or on a disk that is gone
            continue
    return total


def size_of(path: Path) -> int:
    """Bytes of a file or of all below a folder, links counted as links."""
    return _bytes(path) if path.is_dir() and not path.is_symlink() else path.lstat().st_size


def bytes_of(folders: Folders, version: Version) -> int:
    """What a version takes on the disk, as it says itself; those of before did not say."""
    listed = version.files
    return _bytes(folders.store.folder(version)) if listed is None else sum(listed.values())


def sizes_of(folders: Folders) -> Sizes:
    """Count a project: its versions say themselves how large they are, and never change."""
    store = folders.store
    versions = 0
    for step in STEPS:
        for version in store.versions(step.layer):
            versions += bytes_of(folders, version)
    names, own = [], 0
    for entry in _files(folders.photos):
        names.append(entry.path)
        with contextlib.suppress(OSError):
            own += entry.stat(follow_symlinks=False).st_size
    first = str(Path(min(names)).relative_to(folders.photos)) if names else None
    more = sum(_bytes(folders.root / kind) for kind in ("masks", "videos", "uploads", "cache", "trash"))
    cache = sum(size for _, size, _ in _made_again(folders))
    return Sizes(len(names), first, versions + own + more, cache)


#: most that is kept of what can be made again, for each project (bytes)
MOST_CACHE = 3_000_000_000


def _made_again(folders: Folders) -> list[tuple[float, int, Path]]:
    """What is made again when it is asked for: when it was last read or written, bytes, file or folder."""
    out = []
    try:
        entries = list(os.scandir(folders.cache))
    except OSError:
        return []
    for entry in entries:
        # what looking through a video gave takes a job to be made again
        if entry.name.startswith((".", "video-")):
            continue
        try:
            stat = entry.stat(follow_symlinks=False)
        except FileNotFoundError:
            continue
        path = Path(entry.path)
        out.append((max(stat.st_atime, stat.st_mtime), _bytes(path) if entry.is_dir() else stat.st_size, path))
    return out


def trim_cache(folders: Folders, most: int = MOST_CACHE) -> int:
    """Delete what was not used for longest until the rest is within bounds; bytes that were freed."""
    found = sorted(_made_again(folders))
    over = sum(size for _, size, _ in found) - most
    freed = 0
    for _, size, path in found:
        if freed >= over:
            break
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
        freed += size
    return freed
