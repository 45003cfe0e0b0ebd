"""Bringing photos and masks in: each file is taken, known already, or refused with the reason; no name is ever taken twice."""

from __future__ import annotations

import contextlib
import errno
import filecmp
import hashlib
import io
import os
import stat
import threading
from collections import defaultdict
from pathlib import Path
from typing import IO, Any

from PIL import Image
from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.mask.files import mask_names
from vast_quarry.core.photo.reading import PHOTO_ENDINGS, find_photos, photo_names
from vast_quarry.core.progress import Cancelled
from vast_quarry.core.words import Said, say, together
from vast_quarry.pipeline.apart import apart
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.pipeline.step import Reporter
from vast_quarry.server.services.arrivals import arrive, arrive_all
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.names import clean_name, clean_path, within

#: largest files that are taken as masks and as photos (bytes)
LARGEST_MASK = 200_000_000
LARGEST_PHOTO = 2_000_000_000
#: files that are brought to the disk together
BATCH = 64
#: bytes at the beginning, in the middle and at the end by which files of one size are told apart before they are compared
PEEK = 65_536
#: refused files that are named one by one
NAMED = 20


class Refused(BaseModel):
    """A file that was not taken, and why."""

    name: str
    why: Sentence


class Brought(BaseModel):
    """What became of files: those taken by the names they have now, those that were there already, those refused."""

    taken: list[str] = []
    #: names they came by, of files whose content the project has
    known: list[str] = []
    refused: list[Refused] = []
    #: what there is to know about those that were taken
    remarks: list[Sentence] = []


class Held:
    """Files below a folder, found again by what is in them."""

    def __init__(self, folder: Path | None = None) -> None:
        self._of_size: dict[int, list[Path]] = defaultdict(list)
        self._print: dict[Path, str] = {}
        for name in photo_names(folder) if folder else []:
            with contextlib.suppress(OSError):  # what is gone holds nothing
                self.add(Path(folder or "", name))

    def find(self, file: Path) -> Path | None:
        """One that holds just the same; None where there is none."""
        size = os.stat(file).st_size
        mine = [p for p in self._of_size.get(size, []) if p != file]
        if not mine:
            return None
        told = _fingerprint(file, size)
        for p in mine:
            try:
                if p not in self._print:
                    self._print[p] = _fingerprint(p, size)
                if self._print[p] == told and filecmp.cmp(file, p, shallow=False):
                    return p
            except OSError:
                continue
        return None

    def add(self, file: Path) -> None:
        """Count in one that came just now."""
        self._of_size[os.stat(file).st_size].append(file)


def _fingerprint(file: Path, size: int) -> str:
    seen = hashlib.blake2b(digest_size=16)
    with open(file, "rb") as f:
        for at in sorted({0, max(0, size // 2 - PEEK // 2), max(0, size - PEEK)}):
            f.seek(at)
            seen.update(f.read(PEEK))
    return seen.hexdigest()


class Known(PlainError):
    """The project has a photo with just this content."""

    def __init__(self, file: Path) -> None:
        super().__init__(say("is in the project already, as {name}.", name=file.name))
        self.file = file


def wanted_name(name: str) -> Path:
    """Where a photo of a name goes, below the folder of photos.

    Raises
    ------
    PlainError
        When it is no kind of picture that is read.
    """
    clean = clean_path(name)
    if clean.suffix.lower() not in PHOTO_ENDINGS:
        raise PlainError(say("{name} is not a kind of picture that is read.", name=clean.name))
    return clean


def take_in(folders: Folders, name: str, data: Any, held: Held | None = None) -> str:
    """Save an uploaded photo under its own name, never over another, and never twice; returns where it is.

    What comes is a stream, or a file that has come already, which is moved and not copied.

    Raises
    ------
    Known
        When the project has it already; what came is dropped.
    PlainError
        When it is no kind of picture that is read.
    """
    target = within(folders.photos, wanted_name(name))
    mine = held or Held(folders.photos)

    def look(came: Path) -> None:
        there = mine.find(came)
        # an upload that got its name before a kill is itself
        if there is not None and not os.path.samefile(there, came):
            raise Known(there)

    now = arrive(data, target, look, LARGEST_PHOTO)
    mine.add(now)
    return str(now.relative_to(folders.photos))


def disk_said(error: OSError) -> Said:
    """Why a file could not be written or read, in words."""
    if error.errno == errno.ENOSPC:
        return Said("The disk is full. Free some space and try again.")
    return say("A file could not be used ({why}).", why=error)


def take_all(folders: Folders, files: list[tuple[str, IO[bytes]]]) -> Brought:
    """Take in photos that were sent; whatever is the matter with one, the others go on.

    Raises
    ------
    OSError
        When the disk takes none at all.
    """
    out, held, trouble = Brought(), Held(folders.photos), None
    for name, data in files:
        try:
            out.taken.append(take_in(folders, name, data, held))
        except Known:
            out.known.append(name)
        except PlainError as error:
            out.refused.append(Refused(name=name, why=error.said))
        except OSError as error:
            trouble = error
            out.refused.append(Refused(name=name, why=disk_said(error)))
    if trouble is not None and not out.taken and not out.known:
        raise trouble
    return out


def take_masks(folders: Folders, files: list[tuple[str, IO[bytes]]]) -> Brought:
    """Take in masks that were sent, each in the place of an earlier one of its name."""
    out = Brought()
    for name, data in files:
        try:
            out.taken.append(take_mask(folders, name, data))
        except PlainError as error:
            out.refused.append(Refused(name=name, why=error.said))
        except OSError as error:
            out.refused.append(Refused(name=name, why=disk_said(error)))
    out.remarks = list(without_photo(folders, out.taken))
    return out


def take_mask(folders: Folders, name: str, data: IO[bytes]) -> str:
    """Keep a mask named like its photo, in the place of an earlier one; its name.

    Raises
    ------
    PlainError
        When it is no PNG that can be read whole; an earlier mask stays.
    """
    clean = clean_name(name)
    if not clean.lower().endswith(".png"):
        raise PlainError(say("{clean} is not a PNG file.", clean=clean))
    body = data.read(LARGEST_MASK + 1)
    if len(body) > LARGEST_MASK:
        raise PlainError(
            say("{clean} is larger than masks are taken ({mb} MB).", clean=clean, mb=round(LARGEST_MASK / 1e6))
        )
    if not apart(_is_png)(body):
        raise PlainError(say("{clean} is no PNG that can be read whole.", clean=clean), "Save it again.")
    with atomic_write(within(folders.masks, clean), durable=True) as out:
        out.write(body)
    return clean


def _is_png(body: bytes) -> bool:
    try:
        with Image.open(io.BytesIO(body), formats=["PNG"]) as image:
            image.load()
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return False
    return True


def without_photo(folders: Folders, masks: list[str]) -> list[Said]:
    """What there is to say of masks that belong to no photo."""
    known = {n for path in photo_names(folders.photos) for n in mask_names(path)}
    lone = [m for m in masks if m not in known]
    if not lone:
        return []
    pattern = (
        "{names}{more, plural, =0 {} other { and # more}} {all, plural, one {belongs} other {belong}} to no photo: "
        "a mask is called like its photo, with the ending .png."
    )
    return [say(pattern, names=", ".join(lone[:4]), more=max(0, len(lone) - 4), all=len(lone))]


def folder_given(source: str) -> Path:
    """The folder that somebody typed.

    Raises
    ------
    PlainError
        When there is none.
    """
    try:
        folder = Path(source).expanduser()
        there = folder.is_dir()
    except (OSError, ValueError, RuntimeError):  # too long, a loop of links, a user that is not known
        there = False
    if not there:
        raise PlainError(say("There is no folder {folder}.", folder=source), "Check the path.")
    return folder


def bring_folder(folders: Folders, source: str, copy: bool, reporter: Reporter, cancelled: threading.Event) -> Brought:
    """Bring in the photos of a folder on this machine, copies of them or links to where they lie.

    What is there already, by what is in it, is passed over: what was stopped goes on where it was.

    Raises
    ------
    Cancelled
        When it is stopped; what has come stays.
    PlainError
        When the folder holds no photos.
    """
    found = find_photos(folder_given(source))
    if not found:
        raise PlainError(
            say("There are no photos in {source}.", source=source), "Give a folder with JPEG, PNG, TIFF or WebP files."
        )
    folders.make()
    reporter.begin("photos", "Bringing photos in")
    out, held = Brought(), Held(folders.photos)
    for k in range(0, len(found), BATCH):
        if cancelled.is_set():
            raise Cancelled
        reporter.stage("photos", "Bringing photos in", k, len(found))
        _bring(folders, found[k : k + BATCH], copy, held, out)
    reporter.stage("photos", "Bringing photos in", len(found), len(found))
    return out


def _bring(folders: Folders, files: list[Path], copy: bool, held: Held, out: Brought) -> None:
    """Bring in some files, and note of each what became of it."""
    fresh: list[tuple[Path, Path]] = []
    inside = Held()  # those of this batch are not in their place yet
    for file in files:
        try:
            if not stat.S_ISREG(os.stat(file).st_mode):
                raise PlainError("It is no regular file.")
            if held.find(file) or inside.find(file):
                out.known.append(file.name)
                continue
            target = within(folders.photos, wanted_name(file.name))
            inside.add(file)
        except PlainError as error:
            out.refused.append(Refused(name=file.name, why=error.said))
        except OSError as error:
            out.refused.append(Refused(name=file.name, why=disk_said(error)))
        else:
            fresh.append((file, target))
    if not copy:
        for file, target in fresh:
            _done(folders, refer_to(file, target), held, out)
        return
    for (file, _), came in zip(fresh, arrive_all(fresh)):
        if isinstance(came, Path):
            _done(folders, came, held, out)
        else:
            out.refused.append(Refused(name=file.name, why=disk_said(came)))


def _done(folders: Folders, now: Path, held: Held, out: Brought) -> None:
    held.add(now)
    out.taken.append(str(now.relative_to(folders.photos)))


def brought_said(brought: Brought) -> Said:
    """What was brought in, as a sentence; files that were refused are named."""
    sentence = say(
        "{taken, plural, =0 {No photo} one {# photo} other {# photos}} brought in"
        "{known, plural, =0 {} one {, # was there already} other {, # were there already}}.",
        taken=len(brought.taken),
        known=len(brought.known),
    )
    if not brought.refused:
        return sentence
    first = brought.refused[0]
    return together(
        [
            sentence,
            say(
                "{count, plural, one {# file was} other {# files were}} refused, the first {name}: {why}",
                count=len(brought.refused),
                name=first.name,
                why=first.why,
            ),
        ]
    )


def refer_to(file: Path, wanted: Path) -> Path:
    """Bring in a photo as a link to where it lies, under its own name, never over another."""
    target, n, where = wanted, 1, file.resolve()
    while target.exists() or target.is_symlink():
        target = wanted.with_name(f"{wanted.stem} ({n}){wanted.suffix}")
        n += 1
    target.symlink_to(where)
    return target


def point_again(folders: Folders, source: str) -> int:
    """Point to photos that are no longer where they were, by their names in another folder; returns how many were found.

    Raises
    ------
    PlainError
        When none of them is there.
    """
    there: dict[str, Path] = {}
    for p in find_photos(folder_given(source)):
        there.setdefault(p.name, p)
    found = 0
    for link in folders.photos.rglob("*"):
        if link.is_symlink() and not link.exists() and link.readlink().name in there:
            name = link.readlink().name
            link.unlink()
            link.symlink_to(there[name].resolve())
            found += 1
    if not found:
        raise PlainError(
            say("None of the missing photos is in {source}.", source=source), "Give the folder that they lie in now."
        )
    return found
