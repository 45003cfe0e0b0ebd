"""Masks for the page: what was found of each photo, mending by hand with undo, pictures as it goes, export."""

from __future__ import annotations

import io
import json
import zlib
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic import BaseModel
from sqlmodel import Session

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import read_json
from vast_quarry.core.formats.documents import changed
from vast_quarry.core.mask.edits import Edit, edited
from vast_quarry.core.mask.files import mask_at, read_small_mask
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline import mask_edits
from vast_quarry.pipeline.apart import apart, load_small
from vast_quarry.pipeline.mask_edits import edits_by_photo, edits_made
from vast_quarry.pipeline.steps.masks import mask_file
from vast_quarry.server.models import Project
from vast_quarry.server.services import steps
from vast_quarry.server.services.folders import Folders, NotFound, editing
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.pictures import hatched, photo_numbers, safe_path

Mask = NDArray[np.bool_]


class MaskRow(BaseModel):
    """What is known of one photo's mask."""

    path: str
    #: how it was made: ``files``, ``still``, ``colour``, ``focus``, ``carry``, ``model``, ``hand``; empty without one
    way: str
    #: share of the photo that it keeps, and how sure it is (0 to 1)
    share: float | None
    sure: float | None
    #: how far its share lies from what is usual in the set, in usual spreads
    odd: float
    #: edits made by hand that stand
    edits: int


class MasksOut(BaseModel):
    """Masks of a project."""

    rows: list[MaskRow]
    #: another one with other edits: pictures are asked for again when it changes
    number: int
    #: edits that can be undone, and that can be made again
    undo: int
    redo: int
    #: whether there are edits that the version in use does not have yet
    unsaved: bool


def take_up(session: Session, project_id: int, folders: Folders) -> None:
    """Put edits that came as a file (from an archive, or from before they were kept as steps) into the history."""
    if any(steps.counts(session, project_id, "masks")) or not folders.mask_edits.exists():
        return
    with editing(session, project_id):
        if any(steps.counts(session, project_id, "masks")):
            return
        document = read_json(folders.mask_edits)
        there, undone = list(document.get("steps", [])), list(document.get("undone", []))[::-1]
        taken = [steps.add(session, project_id, "masks", _says(len(c["paths"])), c) for c in there + undone]
        for step in taken[len(there) :]:
            step.done = False


def _says(photos: int) -> Said:
    return say("Masks of {n} photos mended", n=photos) if photos > 1 else say("A mask mended")


def _write(session: Session, project_id: int, folders: Folders) -> None:
    """The edits that stand as a file: what pictures and runs of Masks are made from."""
    with changed(folders.mask_edits) as document:
        document.clear()
        document["steps"] = [step.change for step in steps.done(session, project_id, "masks")]


def _version(folders: Folders) -> tuple[Path | None, dict[str, Any]]:
    """Folder of the version in use, and what it says of each photo."""
    try:
        folder = folders.store.folder(version_of(folders, "masks", None))
        return folder, read_json(folder / "masks.json").get("photos", {})
    except (NotFound, OSError, ValueError):
        return None, {}


def masks_of(session: Session, project: Project, folders: Folders) -> MasksOut:
    """What is known of all masks."""
    assert project.id is not None
    take_up(session, project.id, folders)
    undo, redo = steps.counts(session, project.id, "masks")
    folder, known = _version(folders)
    edits = _by_photo(folders)
    shares = {p: r["share"] for p, r in known.items() if r["share"] is not None}
    middle = float(np.median(list(shares.values()))) if shares else 0.0
    spread = 1.48 * float(np.median([abs(s - middle) for s in shares.values()])) if shares else 0.0
    rows = []
    for path in photo_numbers(folders) or known:
        row = known.get(path, {"way": "", "share": None, "sure": None})
        share = row["share"]
        odd = 0.0 if share is None else abs(share - middle) / max(spread, 0.01, 0.05 * middle)
        rows.append(
            MaskRow(
                path=path,
                way=row["way"],
                share=share,
                sure=row["sure"],
                odd=round(odd, 2),
                edits=len(edits.get(path, [])),
            )
        )
    return MasksOut(
        rows=rows, number=zlib.crc32(json.dumps(edits, sort_keys=True).encode()), undo=undo, redo=redo,
        unsaved=(edits_made(folder) if folder else {}) != edits,
    )  # fmt: skip


def _by_photo(folders: Folders) -> dict[str, list[dict[str, Any]]]:
    return edits_by_photo(str(folders.mask_edits) if folders.mask_edits.exists() else None)


def add_edit(session: Session, project_id: int, folders: Folders, paths: list[str], edit: Edit) -> MasksOut:
    """Make an edit on photos; what was undone before cannot be made again any more.

    Raises
    ------
    PlainError
        When it names no photos.
    """
    for path in paths:
        safe_path(folders.photos, path)
    if not paths:
        raise PlainError("No photo was chosen.", "Choose one or several in the contact sheet.")
    with editing(session, project_id) as project:
        take_up(session, project_id, folders)
        change = {"paths": paths, "edit": mask_edits.one.dump_python(edit, mode="json")}
        steps.add(session, project_id, "masks", _says(len(paths)), change)
        _write(session, project_id, folders)
    return masks_of(session, project, folders)


def step(session: Session, project: Project, folders: Folders, forth: bool) -> None:
    """Take the last edit back, or make the last one that was taken back again."""
    assert project.id is not None
    take_up(session, project.id, folders)
    found = steps.next_of(session, project.id, "masks", forth)
    if found is not None:
        found.done = forth
        session.add(found)
        session.flush()
        _write(session, project.id, folders)


#: masks with their edits, as they were last drawn
_drawn: OrderedDict[str, Mask | None] = OrderedDict()
_lock = Lock()


def mask_now(folders: Folders, path: str, side: int) -> Mask | None:
    """The mask of a photo with its edits, at most ``side`` pixels long; None where the whole photo counts."""
    folder, known = _version(folders)
    number = photo_numbers(folders).get(path)
    edits = _by_photo(folders).get(path, [])
    base = None
    if folder is not None and number is not None:
        kept = folder / "base" / f"{number:05d}.png"
        base = kept if kept.exists() else None if known.get(path, {}).get("edited") else mask_file(folder, number)
    name = json.dumps([str(base), base.stat().st_mtime_ns if base else 0, str(folders.root), path, side, edits])
    with _lock:
        if name in _drawn:
            _drawn.move_to_end(name)
            return _drawn[name]
    mask, full = apart(read_small_mask)(base, side) if base is not None else (None, 0)
    if not edits:  # the photo itself need not be read
        return mask
    rgb = load_small(safe_path(folders.photos, path), side)
    h, w = rgb.shape[:2]
    small = None if mask is None else mask_at(mask, w, h)
    made = edited(small, mask_edits.several.validate_python(edits), w, h, lambda: rgb, w / (full or w))
    with _lock:
        _drawn[name] = made
        while len(_drawn) > 300:
            _drawn.popitem(last=False)
    return made


def mask_picture(folders: Folders, path: str, side: int) -> bytes:
    """PNG that hatches what the mask leaves out of a photo, with edits; clear when it has no mask."""
    return hatched(mask_now(folders, path, side))


def exported(folders: Folders) -> Iterator[tuple[str, bytes]]:
    """All masks of the version in use as 8-bit PNG with names like those of their photos, for a ZIP file.

    Raises
    ------
    NotFound
        When there are none.
    """
    folder, _ = _version(folders)
    found = [(p, mask_file(folder, n)) for p, n in photo_numbers(folders).items()] if folder else []
    files = [(str(Path(path).with_suffix(".png")), file) for path, file in found if file is not None]
    if not files:
        raise NotFound("There are no masks yet.", "Run Masks first.")
    return ((name, _as_grey_png(file)) for name, file in files)


def _as_grey_png(file: Path) -> bytes:
    out = io.BytesIO()
    with Image.open(file) as image:
        image.convert("L").save(out, format="PNG")
    return out.getvalue()
