"""Masks from files: ``STEM.png`` beside or in a folder of their own; white is kept; as large as the upright photo."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say


def mask_path(folder: Path, photo: str) -> Path | None:
    """The mask file of a photo (its path below the photo folder), or None when there is none."""
    relative = Path(photo)
    for candidate in (folder / relative.with_suffix(".png"), folder / f"{relative.stem}.png"):
        if candidate.is_file():
            return candidate
    return None


def read_mask(path: Path, width: int, height: int) -> NDArray[np.bool_]:
    """A mask file as (height, width) bool, True where the photo counts.

    Raises
    ------
    PlainError
        When it cannot be read or has another size than the photo.
    """
    try:
        with Image.open(path) as image:
            size, values = image.size, None
            if size == (width, height):
                values = np.asarray(image.convert("L"))
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise PlainError(say("The mask {name} cannot be read.", name=path.name), "Save it again as PNG.") from error
    if values is None:
        raise PlainError(
            say(
                "The mask {name} is {width} x {height} pixels, its photo (seen upright) {photo_width} x {photo_height}.",
                name=path.name,
                width=size[0],
                height=size[1],
                photo_width=width,
                photo_height=height,
            ),
            "Masks are as large as their photos.",
        )
    return values > 127


def shrunk(mask: NDArray[np.bool_], pixels: float) -> NDArray[np.bool_]:
    """A mask made smaller by some pixels at its rim."""
    if pixels < 0.5:
        return mask
    padded = np.pad(mask.astype(np.uint8), 1, mode="edge")
    inside = cv2.distanceTransform(padded, cv2.DIST_L2, 5)[1:-1, 1:-1]
    return inside > pixels


def mask_at(mask: NDArray[np.bool_], width: int, height: int) -> NDArray[np.bool_]:
    """A mask resampled to another size; kept where most of the area is kept."""
    if mask.shape == (height, width):
        return mask
    small = cv2.resize(mask.astype(np.float32), (width, height), interpolation=cv2.INTER_AREA)
    return small > 0.5
