"""What was removed from a project and can be brought back: photos, videos and versions lie in its trash for a while.

Layout below the project's folder::

    trash/<number>/item.json   what it was, when it was removed, and where each file stood
    trash/<number>/<n>         the files and folders, numbered as they are listed

The note is written before the first file goes, so that whatever a kill leaves half-way can be brought back whole.
"""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ValidationError

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import write_json
from vast_quarry.core.formats.lock import release, wait_for
from vast_quarry.core.words import say
from vast_quarry.server.models import now
from vast_quarry.server.services.folders import Folders, NotFound
from vast_quarry.server.services.names import within
from vast_quarry.server.services.sizes import size_of

Kind = Literal["photos", "video", "versions"]
#: what was removed stays so long
KEPT = timedelta(days=30)
NOTE = "item.json"


class Removed(BaseModel):
    """Something that was removed together."""

    number: int
    kind: Kind
    #: what it was called: paths of photos, the name of a video, versions like ``points 3``
    names: list[str]
    bytes: int
    removed: str
    #: where each file or folder stood, below the project's folder
    places: list[str]
    #: layers and numbers of versions that were in use
    in_use: dict[str, int] = {}


class TrashOut(BaseModel):
    """The trash of a project, newest first."""

    items: list[Removed]
    bytes: int
    #: days that things stay in it
    days: int = KEPT.days


def _root(folders: Folders) -> Path:
    return folders.root / "trash"


def put_away(
    folders: Folders, kind: Kind, names: Sequence[str], files: Sequence[Path], in_use: dict[str, int] | None = None
) -> Removed:
    """Move files and folders of a project into its trash, as one thing.

    Raises
    ------
    PlainError
        When there are none.
    """
    there = [p for p in files if p.is_symlink() or p.exists()]
    if not there:
        raise NotFound("There is nothing of that to remove.")
    root = _root(folders)
    root.mkdir(parents=True, exist_ok=True)
    handle = wait_for(root / ".lock")
    try:
        number = max((int(p.name) for p in root.iterdir() if p.name.isdecimal()), default=0) + 1
        item = Removed(
            number=number, kind=kind, names=list(names), bytes=sum(size_of(p) for p in there), removed=now(),
            places=[str(p.relative_to(folders.root)) for p in there], in_use=in_use or {},
        )  # fmt: skip
        box = root / str(number)
        box.mkdir()
        write_json(box / NOTE, item.model_dump())
        for k, path in enumerate(there):
            os.replace(path, box / str(k))
            _leave_no_empty(path.parent, folders)
    finally:
        release(handle)
    return item


def _leave_no_empty(folder: Path, folders: Folders) -> None:
    """Remove folders of photos and masks that hold nothing any more."""
    for root in (folders.photos, folders.masks):
        while folder != root and folder.is_relative_to(root):
            try:
                folder.rmdir()
            except OSError:
                return
            folder = folder.parent


def _items(folders: Folders) -> list[Removed]:
    out = []
    root = _root(folders)
    for box in root.iterdir() if root.is_dir() else ():
        if box.name.isdecimal():
            with contextlib.suppress(OSError, ValidationError):
                out.append(Removed.model_validate_json((box / NOTE).read_bytes()))
    return sorted(out, key=lambda i: -i.number)


def trash_of(folders: Folders) -> TrashOut:
    """What lies in the trash."""
    items = _items(folders)
    return TrashOut(items=items, bytes=sum(i.bytes for i in items))


def _item(folders: Folders, number: int) -> Removed:
    found = next((i for i in _items(folders) if i.number == number), None)
    if found is None:
        raise NotFound("This is no longer in the trash.")
    return found


def bring_back(folders: Folders, number: int) -> Removed:
    """Put what was removed where it stood.

    Raises
    ------
    PlainError
        When it is gone, or something else stands there by now: then nothing is moved.
    """
    root = _root(folders)
    item = _item(folders, number)
    handle = wait_for(root / ".lock")
    try:
        box = root / str(number)
        moves: list[tuple[Path, Path]] = []
        for k, place in enumerate(item.places):
            source, target = box / str(k), within(folders.root, place)
            if not (source.is_symlink() or source.exists()):  # a kill came before it was moved
                continue
            if target.is_symlink() or target.exists():
                raise PlainError(
                    say("Something else is called {name} by now.", name=place),
                    "Remove or rename that first; nothing was brought back.",
                )
            moves.append((source, target))
        for source, target in moves:
            target.parent.mkdir(parents=True, exist_ok=True)
            os.replace(source, target)
        shutil.rmtree(box)
    finally:
        release(handle)
    return item


def empty(folders: Folders, number: int | None = None) -> int:
    """Delete one thing in the trash for good, or all of it; bytes that were freed."""
    freed = 0
    for item in [_item(folders, number)] if number is not None else _items(folders):
        shutil.rmtree(_root(folders) / str(item.number))
        freed += item.bytes
    return freed


def empty_old(folders: Folders) -> int:
    """Delete what has lain in the trash for long enough; bytes that were freed."""
    long_ago = (datetime.now(UTC) - KEPT).isoformat()
    return sum(empty(folders, i.number) for i in _items(folders) if i.removed < long_ago)
