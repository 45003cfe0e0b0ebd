"""Photos as the page needs them: list, thumbnails, masks, depth maps."""

from __future__ import annotations

import hashlib
import io
import os
from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.mask.files import mask_names
from vast_quarry.core.mask.keying import key_out
from vast_quarry.core.photo.quality import dark_map
from vast_quarry.core.photo.reading import photo_names
from vast_quarry.core.words import say
from vast_quarry.pipeline.apart import Slow, load_rgb, load_small, read_facts
from vast_quarry.pipeline.judging import Inspected
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.steps.photos import Photo, read_photo_list
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import Folders, NotFound, safe_path
from vast_quarry.server.services.judging import judged
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.sets import by_hand, set_of
from vast_quarry.server.services.shooting import shots_of

#: largest files that are taken as masks and as photos (bytes)
LARGEST_MASK = 200_000_000
LARGEST_PHOTO = 2_000_000_000
#: side of the thumbnails on the contact sheet (pixels)
THUMB = 240


class PhotoOut(BaseModel):
    """A photo, as told to the page."""

    path: str
    width: int | None
    height: int | None
    bytes: int
    kept: bool
    problem: Sentence | None
    focal_px: float | None
    focal_source: str | None
    camera: str | None
    exposure: str | None
    taken: str | None
    sharpness: float | None
    state: str | None
    row: int | None
    #: which photos it was shot with
    set: str | None
    #: whether it was brought in by reference and is no longer where it was
    gone: bool
    #: whether a mask file lies beside it
    masked: bool
    #: number of the frame, for photos that were taken from a video
    frame: int | None
    #: what judging found; None where it was not judged, or has changed since
    judged: Inspected | None
    #: where the plan wanted it to be taken from (m), for photos that were shot to a plan
    planned: list[float] | None


def _known(folders: Folders) -> dict[str, Photo]:
    """What the version of Photos in use says, by path."""
    try:
        version = version_of(folders, "photos", None)
        return {p.path: p for p in read_photo_list(folders.store.folder(version)).photos}
    except (NotFound, OSError, ValueError):
        return {}


def _states(folders: Folders, known: dict[str, Photo]) -> dict[str, tuple[str, int]]:
    """State and row in the alignment in use, by path."""
    try:
        folder = folders.store.folder(version_of(folders, "cameras", None))
        solution = load_solution(folder)
    except (NotFound, OSError, ValueError):
        return {}
    rows = {int(n): k for k, n in enumerate(solution.numbers)}
    return {p.path: (solution.states[rows[p.number]], rows[p.number]) for p in known.values() if p.number in rows}


#: what is known of a file that cannot be read
NOTHING = dict.fromkeys(("width", "height", "focal_px", "focal_source", "camera", "exposure", "taken", "frame"))


def _told(file: str, size: int, changed: int) -> dict[str, Any]:
    """What the page shows of a file; read again when the file changes, or when it could not be read in time."""
    try:
        return _seen(file, size, changed)
    except Slow as error:
        return {**NOTHING, "problem": error.said}


@lru_cache(maxsize=20_000)
def _seen(file: str, size: int, changed: int) -> dict[str, Any]:
    try:
        f = read_facts(Path(file))
    except Slow:
        raise
    except PlainError as error:
        return {**NOTHING, "problem": error.said}
    e = f.exif
    exposure = (
        f"1/{round(1 / e.exposure_s)} s" if e.exposure_s and e.exposure_s < 1 else None,
        f"f/{e.f_number:g}" if e.f_number else None,
        f"ISO {e.iso}" if e.iso else None,
    )
    return {
        "width": f.width, "height": f.height, "problem": None, "focal_px": f.focal, "focal_source": f.focal_source,
        "camera": e.model, "exposure": " · ".join(x for x in exposure if x) or None, "taken": e.taken,
        "frame": (e.extra.get("source") or {}).get("frame"),
    }  # fmt: skip


def check_known(folders: Folders, paths: list[str]) -> None:
    """Make sure that photos are of the project, there or gone.

    Raises
    ------
    NotFound
        When one is not.
    """
    if not set(paths) <= set(photo_names(folders.photos)):
        raise NotFound("There is no such photo.")


def set_focal(project: Project, paths: list[str], focal_as_35_mm: float | None) -> None:
    """Say with what focal length photos were taken (mm on a 35 mm camera); nothing takes that back."""
    mine = dict(project.settings.get("photos", {}))
    focals = {k: v for k, v in mine.get("focals", {}).items() if k not in set(paths)}
    if focal_as_35_mm is not None:
        focals |= dict.fromkeys(paths, focal_as_35_mm)
    project.settings = {**project.settings, "photos": {**mine, "focals": focals}}
    if not focals:
        project.settings["photos"].pop("focals")


def sets_of(project: Project, folders: Folders) -> dict[str, str]:
    """Name of the set of each photo that is of one."""
    return {p.path: p.set for p in list_photos(project, folders) if p.set}


def list_photos(project: Project, folders: Folders) -> list[PhotoOut]:
    """All photos of a project with what is known of them."""
    if not folders.photos.is_dir():
        return []
    known = _known(folders)
    states = _states(folders, known)
    left_out, shots = set(project.left_out), shots_of(folders)
    found, names = judged(folders)[0], by_hand(folders)
    masks = {str(m.relative_to(folders.masks)) for m in folders.masks.rglob("*.png")}
    out = []
    root = str(folders.photos)
    for path in photo_names(folders.photos):
        name = os.path.join(root, path)
        gone = False
        try:
            stat = os.stat(name)
        except (
            OSError
        ):  # where it lies there is nothing any more, or nothing that may be read: a share is gone, a folder locked
            try:
                stat, gone = os.lstat(name), True
            except OSError:  # removed just now
                continue
        entry: dict[str, Any] = {"path": path, "bytes": stat.st_size, "kept": path not in left_out}
        entry |= _told(name, stat.st_size, stat.st_mtime_ns)
        if gone:
            place = os.readlink(name) if os.path.islink(name) else name
            entry["problem"] = say("is no longer where it was ({place}).", place=place)
        entry["gone"], entry["set"] = gone, set_of(path, names, found, shots)
        photo = known.get(path)
        entry["sharpness"] = photo.sharpness if photo else None
        entry["masked"] = bool(masks) and any(n in masks for n in mask_names(path))
        if photo and photo.problem and not entry["problem"]:
            entry["problem"] = photo.problem
        state = states.get(path)
        planned = shots[path]["center"] if path in shots else None
        out.append(
            PhotoOut(
                **entry,
                state=state[0] if state else None,
                row=state[1] if state else None,
                planned=planned,
                judged=found.get(path),
            )
        )
    return out


def cache_tag(file: Path, path: str, kind: str) -> str:
    """Name of something made from a photo: another one when the file changes."""
    stat = file.stat()
    text = f"{path}|{stat.st_size}|{stat.st_mtime_ns}|{kind}"
    return hashlib.sha256(text.encode("utf-8", "replace")).hexdigest()[:24]


def thumbnail(folders: Folders, path: str, side: int) -> Path:
    """A small JPEG of a photo, made once."""
    file = safe_path(folders.photos, path)
    target = folders.cache / f"thumb-{cache_tag(file, path, str(side))}.jpg"
    if not target.exists():
        _save(target, load_small(file, side), 85)
    return target


def upright(folders: Folders, path: str) -> Path:
    """The photo as seen upright, in a form that browsers show."""
    file = safe_path(folders.photos, path)
    if file.suffix.lower() in (".jpg", ".jpeg", ".png", ".webp") and read_facts(file).exif.orientation == 1:
        return file
    target = folders.cache / f"upright-{cache_tag(file, path, 'up')}.jpg"
    if not target.exists():
        _save(target, load_rgb(file), 92)
    return target


def _save(target: Path, rgb: NDArray[np.uint8], quality: int) -> None:
    target.parent.mkdir(exist_ok=True)  # not the project's own folder: it may have been removed just now
    with atomic_write(target) as out:
        Image.fromarray(rgb).save(out, format="JPEG", quality=quality)


def hatching(mask: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """RGBA picture that hatches what a mask leaves out."""
    h, w = mask.shape
    v, u = np.meshgrid(np.arange(h), np.arange(w), indexing="ij")
    step = max(6, w // 40)
    stripe = ((u + v) % step) < max(2, step // 3)
    out = np.zeros((h, w, 4), np.uint8)
    out[~mask] = (246, 243, 236, 150)
    out[~mask & stripe] = (38, 36, 31, 190)
    return out


def hatched(mask: NDArray[np.bool_] | None) -> bytes:
    """PNG that hatches what a mask leaves out; clear without one."""
    return as_png(hatching(np.ones((1, 1), bool) if mask is None else mask))


def photo_numbers(folders: Folders) -> dict[str, int]:
    """Number of each photo in the version of Photos in use, by path."""
    return {p.path: p.number for p in _known(folders).values()}


def as_png(picture: NDArray[np.uint8]) -> bytes:
    """A picture as PNG, packed quickly."""
    out = io.BytesIO()
    Image.fromarray(picture).save(out, format="PNG", compress_level=2)
    return out.getvalue()


def dark_picture(folders: Folders, path: str, side: int) -> bytes:
    """PNG that hatches what of a photo is too dark to hold features."""
    rgb = load_small(safe_path(folders.photos, path), 1600)
    scale = side / max(rgb.shape[:2])
    size = (max(1, round(rgb.shape[1] * scale)), max(1, round(rgb.shape[0] * scale)))
    dark = cv2.resize(dark_map(rgb).astype(np.uint8), size, interpolation=cv2.INTER_NEAREST) > 0
    return as_png(hatching(~dark))


def key_preview(folders: Folders, path: str, colors: list[tuple[int, int, int]], tolerance: float, side: int) -> bytes:
    """What keying would leave out of a photo, as a hatched PNG."""
    file = safe_path(folders.photos, path)
    facts = read_facts(file)
    rgb = load_rgb(file, min(1.0, side / max(facts.width, facts.height)))
    return as_png(hatching(key_out(rgb, colors, tolerance)))


def color_at(folders: Folders, path: str, x: float, y: float) -> tuple[int, int, int]:
    """Median colour of a small patch of a photo about a place given as shares of its width and height."""
    rgb = load_rgb(safe_path(folders.photos, path))
    h, w = rgb.shape[:2]
    i, j, r = int(np.clip(x, 0, 1) * (w - 1)), int(np.clip(y, 0, 1) * (h - 1)), max(2, w // 200)
    patch = rgb[max(0, j - r) : j + r + 1, max(0, i - r) : i + r + 1].reshape(-1, 3)
    r_, g_, b_ = (int(c) for c in np.median(patch, axis=0))
    return r_, g_, b_
