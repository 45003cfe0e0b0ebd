"""Large photos in tiles, so that a look at single pixels does not wait for the whole file.

Level 0 is the photo at full size, each further level half as large. All tiles of a photo are cut in one go from one
decoding; only those of the photos looked at last are kept.
"""

from __future__ import annotations

import shutil
import threading
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from vast_quarry.pipeline.apart import load_rgb
from vast_quarry.server.services.folders import Folders, NotFound, safe_path
from vast_quarry.server.services.pictures import cache_tag

#: side of a tile (pixels)
SIDE = 512
#: levels smaller than this are not cut: the preview shows them
PREVIEW = 1200
#: photos whose tiles are kept in a project
KEPT = 60

_cutting = threading.Lock()


def levels_of(width: int, height: int) -> int:
    """How many levels a photo of a size has; none when the preview shows all of it."""
    n, longest = 0, max(width, height)
    while longest > PREVIEW:
        n, longest = n + 1, longest // 2
    return n


def _folder(folders: Folders, path: str) -> Path:
    return folders.cache / f"tiles-{cache_tag(safe_path(folders.photos, path), path, 'tiles')}"


def cut(folders: Folders, path: str) -> Path:
    """Cut a photo into tiles unless it has been; returns their folder."""
    target = _folder(folders, path)
    if target.is_dir():
        return target
    with _cutting:
        if target.is_dir():
            return target
        rgb: NDArray[np.uint8] = load_rgb(safe_path(folders.photos, path))
        making = target.with_suffix(".partial")
        shutil.rmtree(making, ignore_errors=True)
        folders.make()
        making.mkdir()
        for level in range(levels_of(rgb.shape[1], rgb.shape[0])):
            if level:
                half = ((rgb.shape[1] + 1) // 2, (rgb.shape[0] + 1) // 2)
                rgb = cv2.resize(rgb, half, interpolation=cv2.INTER_AREA)
            for y in range(0, rgb.shape[0], SIDE):
                for x in range(0, rgb.shape[1], SIDE):
                    tile = Image.fromarray(np.ascontiguousarray(rgb[y : y + SIDE, x : x + SIDE]))
                    tile.save(making / f"{level}_{x // SIDE}_{y // SIDE}.jpg", quality=90, subsampling=0)
        making.rename(target)
        _forget_oldest(folders)
    return target


def _forget_oldest(folders: Folders) -> None:
    every = sorted(folders.cache.glob("tiles-*"), key=lambda p: p.stat().st_mtime)
    for old in every[: max(0, len(every) - KEPT)]:
        shutil.rmtree(old, ignore_errors=True)


def tile_file(folders: Folders, path: str, level: int, x: int, y: int) -> Path:
    """One tile as JPEG.

    Raises
    ------
    NotFound
        When the photo has no such tile.
    """
    file = cut(folders, path) / f"{level}_{x}_{y}.jpg"
    if not file.exists():
        raise NotFound("There is no such tile.")
    return file
