"""One photo looked at before a set is judged: its quality, its features and their light; kept in a file of its own."""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import is_whole, write_arrays
from vast_quarry.core.mask.files import mask_at
from vast_quarry.core.match.features import find_features
from vast_quarry.core.match.matching import coarse_subset
from vast_quarry.core.photo.exif import Exif, focus_mode
from vast_quarry.core.photo.falloff import far_from_middle
from vast_quarry.core.photo.looks import Look, picture_hash, small_picture
from vast_quarry.core.photo.quality import SIDE, Quality, judge
from vast_quarry.core.photo.reading import load_rgb, read_facts, resized
from vast_quarry.core.photo.srgb import linear
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.apart import apart
from vast_quarry.pipeline.sentence import as_data, sentence
from vast_quarry.pipeline.steps.masks import load_mask

#: longer side at which photos are compared with each other, and features of each that are
COMPARED, FEATURES = 640, 900
#: what the lens darkens is seen on patches so wide (standard deviation, share of the longer side): a feature is brighter or
#: darker than what is about it by how finely it is seen, which depends on the distance
WIDE = 0.011
#: changed with the code of this file, so that what was kept by an earlier one is not taken for today's
KIND = 2


class Glance(BaseModel):
    """One photo looked at: facts for :class:`Look`, and its features; kept between looks."""

    model_config = {"arbitrary_types_allowed": True}
    look: Any = None
    descriptors: Any = None
    colors: Any = None
    xy: Any = None
    #: how far the features lie from the middle, and how bright it is about them (log2)
    far: Any = None
    wide: Any = None
    problem: Said | None = None


def glance(folder: Path, path: str, masks: Path | None = None) -> Glance:
    """Read and measure one photo; on its subject only, where ``masks`` holds ``STEM.png`` for it."""
    file = folder / path
    try:
        facts = read_facts(file)
        rgb = load_rgb(file)
    except PlainError as error:
        return Glance(problem=error.said)
    except (OSError, MemoryError) as error:
        return Glance(problem=say("cannot be read ({why}).", why=error))
    scale = min(1.0, SIDE / max(rgb.shape[:2]))
    small = resized(rgb, scale)
    shown = resized(small, min(1.0, COMPARED / max(small.shape[:2])))
    gray = np.asarray(cv2.cvtColor(shown, cv2.COLOR_RGB2GRAY), np.uint8)
    found = find_features(cv2.cvtColor(gray, cv2.COLOR_GRAY2RGB), gray.shape[::-1], 3 * FEATURES, None)
    pick = coarse_subset(found.scale, FEATURES)
    look = Look(
        path=path, quality=judge(small, _subject(masks, file.stem, small), scale), exif=facts.exif, width=facts.width, height=facts.height,
        focal=facts.focal, focal_source=facts.focal_source, sha=hashlib.sha256(file.read_bytes()).hexdigest()[:24],
        hash=picture_hash(gray), small=small_picture(gray), focus=focus_mode(file),
    )  # fmt: skip
    xy = found.xy[pick]
    far = far_from_middle(xy, gray.shape[1], gray.shape[0])
    light = linear(shown)
    # wide patches need no fine picture
    half = cv2.resize(light, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
    wide = np.log2(
        np.maximum(_patches(half, ((xy + 0.5) / 2 - 0.5).astype(np.float32), WIDE * max(half.shape[:2])), 2e-3)
    ).mean(1)
    colors = _patches(light, xy, 2.1)  # a single pixel is noise and detail
    return Glance(look=look, descriptors=found.descriptors[pick], colors=colors, xy=xy, far=far, wide=wide)


def _subject(masks: Path | None, stem: str, picture: NDArray[np.uint8]) -> NDArray[np.bool_] | None:
    file = masks / f"{stem}.png" if masks is not None else None
    if file is None or not file.is_file():
        return None
    try:
        kept = load_mask(file)
    except OSError:
        return None
    return None if kept is None else mask_at(kept, picture.shape[1], picture.shape[0])


def _patches(light: NDArray[np.float32], xy: NDArray[np.float32], sigma: float) -> NDArray[np.float32]:
    """Linear light (K, 3) of patches of a picture (H, W, 3) about places (K, 2)."""
    smooth = cv2.GaussianBlur(light, (0, 0), sigma)
    x = np.clip(np.round(xy[:, 0]).astype(int), 0, light.shape[1] - 1)
    y = np.clip(np.round(xy[:, 1]).astype(int), 0, light.shape[0] - 1)
    return np.asarray(smooth[y, x])


def keep_glance(folder: Path, path: str, masks: Path | None, kept: Path) -> Path:
    """Look at a photo unless that was done since photo and mask last changed; the file that holds what was seen."""
    target = glance_file(folder, path, masks, kept)
    if not is_whole(target):
        save_glance(target, glance(folder, path, masks))
    return target


def keep_glance_apart(folder: Path, path: str, masks: Path | None, kept: Path) -> Path:
    """The same in a process of its own: a photo that takes that down is told like any other that cannot be read."""
    try:
        return apart(keep_glance, patience=60.0)(folder, path, masks, kept)
    except PlainError as error:
        target = glance_file(folder, path, masks, kept)
        save_glance(target, Glance(problem=error.said))
        return target


def glance_file(folder: Path, path: str, masks: Path | None, kept: Path) -> Path:
    """Where what was seen of a photo is kept: another file when photo or mask change."""
    file = folder / path
    tags = [f"{KIND}|{path}"]
    for f in (file, masks / f"{file.stem}.png" if masks is not None else None):
        try:
            stat = f.stat() if f is not None else None
        except OSError:
            stat = None
        tags.append(f"{stat.st_size}|{stat.st_mtime_ns}" if stat else "")
    return kept / f"glance-{hashlib.sha256('|'.join(tags).encode('utf-8', 'replace')).hexdigest()[:24]}.npz"


_ARRAYS = ("descriptors", "colors", "xy", "far", "wide")


def save_glance(target: Path, g: Glance) -> None:
    """Write a glance into a file: arrays, and the facts as JSON among them."""
    if g.problem is not None:
        write_arrays(target, facts=np.array(json.dumps({"problem": as_data(g.problem)})))
        return
    facts = asdict(g.look)
    small = facts.pop("small")
    write_arrays(
        target, facts=np.array(json.dumps(facts, default=_plain)), small=small, **{name: getattr(g, name) for name in _ARRAYS}
    )  # fmt: skip


def load_glance(file: Path) -> Glance:
    """A glance that was kept."""
    with np.load(file) as f:
        facts = json.loads(str(f["facts"]))
        if "problem" in facts:
            return Glance(problem=sentence(facts["problem"]))
        quality, exif = Quality(**facts.pop("quality")), Exif(**facts.pop("exif"))
        look = Look(**facts, quality=quality, exif=exif, small=f["small"])
        return Glance(look=look, **{name: f[name] for name in _ARRAYS})


def _plain(value: Any) -> Any:
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, bytes):
        return value.decode("latin-1")
    return str(value)
