"""Uploads that can be cut and resumed: what has come lies in a file of its own until all of it is there.

References
----------
tus resumable upload protocol 1.0.0 (tus.io): core, creation, termination.
"""

from __future__ import annotations

import base64
import json
import logging
import re
import secrets
import shutil
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import write_json
from vast_quarry.core.formats.lock import Taken, lock
from vast_quarry.core.photo.video import is_video
from vast_quarry.core.words import say
from vast_quarry.server.services import bringing, videos
from vast_quarry.server.services.folders import Folders, NotFound

log = logging.getLogger(__name__)

VERSION = "1.0.0"
#: room that is left free on the disk (bytes)
SPARE = 200_000_000
#: an upload that nobody goes on with is kept so long (s)
KEPT = 7 * 86_400
#: largest file that is taken
LARGEST = 100_000_000_000


@dataclass(frozen=True)
class Coming:
    """An upload under way, or one that was taken in under a name."""

    part: Path
    length: int
    name: str
    taken: str | None = None

    @property
    def offset(self) -> int:
        """Bytes that have come."""
        return self.length if self.taken is not None else self.part.stat().st_size


def _folder(folders: Folders) -> Path:
    return folders.root / "uploads"


def metadata(header: str) -> dict[str, str]:
    """``filename d29ybGQ=,kind cGhvdG8=`` as a dict; what cannot be read is passed over."""
    out = {}
    for part in header.split(","):
        key, _, value = part.strip().partition(" ")
        try:
            out[key] = base64.b64decode(value, validate=True).decode("utf-8")
        except ValueError:
            continue
    return out


def begin(folders: Folders, length: int, told: dict[str, str]) -> str:
    """Make room for an upload; its number.

    Raises
    ------
    PlainError
        When it is too large, or the disk has no room for it.
    """
    name = told.get("filename") or "file"
    if not 0 < length <= LARGEST:
        raise PlainError(say("{name} is empty, or larger than is taken.", name=name), "Choose another file.")
    folders.make()
    folder = _folder(folders)
    folder.mkdir(exist_ok=True)
    for old in folder.iterdir():  # nobody comes back for these
        if time.time() - old.stat().st_mtime > KEPT:
            old.unlink(missing_ok=True)
    if shutil.disk_usage(folder).free < length + SPARE:
        raise PlainError(
            say("The disk has no room for {name} ({mb} MB).", name=name, mb=round(length / 1e6)),
            "Free some space and try again.",
        )
    number = secrets.token_hex(12)
    (folder / f"{number}.part").touch()
    write_json(folder / f"{number}.json", {"length": length, "name": name})
    return number


def coming(folders: Folders, number: str) -> Coming:
    """An upload under way.

    Raises
    ------
    NotFound
        When there is none of that number.
    """
    folder = _folder(folders)
    if not re.fullmatch(r"[0-9a-f]{24}", number):
        raise NotFound("There is no such upload.")
    try:
        told = json.loads((folder / f"{number}.json").read_bytes())
        found = Coming(folder / f"{number}.part", int(told["length"]), str(told["name"]), told.get("taken"))
        assert found.offset >= 0
    except (OSError, ValueError, KeyError) as error:
        raise NotFound("There is no such upload.", "Begin it again.") from error
    return found


@contextmanager
def receiving(folders: Folders, number: str) -> Iterator[Coming]:
    """An upload, for as long as nobody else goes on with it.

    Raises
    ------
    Taken
        When somebody else does.
    NotFound
        When there is none of that number.
    """
    coming(folders, number)
    with lock(_folder(folders) / f"{number}.lock"):
        yield coming(folders, number)


def forget(folders: Folders, number: str) -> None:
    """Drop an upload."""
    for ending in ("part", "json", "lock"):
        (_folder(folders) / f"{number}.{ending}").unlink(missing_ok=True)


def finish(folders: Folders, number: str) -> str | None:
    """Take in what has come whole: a photo, or a video whose name comes back when it is taken in now.

    That it was taken in is noted, so that who did not hear of it does not send it again. When the disk is full all that
    came is kept, and this can be tried again.

    Raises
    ------
    PlainError
        When it is neither; it is dropped.
    """
    found = coming(folders, number)
    if found.taken is not None:
        return None
    video = is_video(Path(found.name))
    try:
        take = videos.take_video if video else bringing.take_in
        name = take(folders, found.name, found.part)
    except bringing.Known as known:
        # whoever sends a photo again has what was wanted
        found.part.unlink()
        name = str(known.file.relative_to(folders.photos))
    except PlainError:
        forget(folders, number)
        raise
    write_json(_folder(folders) / f"{number}.json", {"length": found.length, "name": found.name, "taken": name})
    return name if video else None


def finish_all(folders: Folders) -> list[str]:
    """Take in what had come whole when the server was killed; names of videos among it."""
    out = []
    for file in sorted(_folder(folders).glob("*.json")):
        try:
            with receiving(folders, file.stem) as found:
                if found.offset == found.length and (name := finish(folders, file.stem)):
                    out.append(name)
        except (PlainError, OSError, Taken):
            log.warning("the upload %s could not be taken in", file, exc_info=True)
    return out
