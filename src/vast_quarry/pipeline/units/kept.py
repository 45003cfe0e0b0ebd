"""What is kept of each photo for the units that ask many of them: pictures in files that are mapped, not read.

A unit holds no photo then, and those at work share what they look at.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.photo.reading import load_deep, load_rgb
from vast_quarry.core.photo.tone import Tone, apply_tone
from vast_quarry.pipeline.orders import PhotoOrder


def picture_file(folder: str, row: int, kind: str) -> Path:
    """Where a picture of a photo lies."""
    return Path(folder) / f"{kind}-{row:05d}.npy"


def keep_pictures(folder: str, row: int, pictures: Mapping[str, NDArray]) -> None:
    """Keep pictures of a photo by their kinds."""
    for kind, values in pictures.items():
        with atomic_write(picture_file(folder, row, kind)) as out:
            np.save(out, values)


def mapped_picture(folder: str, row: int, kind: str) -> NDArray:
    """A picture of a photo, mapped."""
    # to be written to as far as the kernels know: they are compiled once, for arrays of the usual kind
    return np.asarray(np.load(picture_file(folder, row, kind), mmap_mode="c"))


def toned_photo(order: PhotoOrder, deep: bool = False) -> NDArray:
    """A photo (H, W, 3) as it is ordered, in 8 bits or, ``deep``, in 16."""
    rgb = load_deep(Path(order.file), order.scale) if deep else load_rgb(Path(order.file), order.scale)
    return apply_tone(rgb, Tone.from_dict(order.tone))
