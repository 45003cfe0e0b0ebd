"""Masks from files: ``STEM.png`` beside or in a folder of their own; white is kept; of the upright photo's shape."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say


def mask_path(folder: Path, photo: str) -> Path | None:
    """The mask file of a photo (its path below the photo folder), or None when there is none.

    Of ``house/a.jpg`` it is ``a.png``, ``a_mask.png`` or ``mask_a.png``, in a folder ``house`` or without it; ``a.jpg.png`` too.
    """
    return next((folder / name for name in mask_names(photo) if (folder / name).is_file()), None)


def mask_names(photo: str) -> list[str]:
    """What the mask file of a photo may be called, below the folder of masks; the first that is there counts."""
    relative = Path(photo)
    names = [f"{relative.stem}.png", f"{relative.stem}_mask.png", f"mask_{relative.stem}.png", f"{relative.name}.png"]
    return list(dict.fromkeys([*(str(relative.parent / n) for n in names), *names]))


def read_small_mask(path: Path, side: int) -> tuple[NDArray[np.bool_], int]:
    """A finished mask at most ``side`` pixels long (H, W) bool, and how wide it is in the file."""
    with Image.open(path) as image:
        full = image.size
        kept = np.asarray(image.convert("L")) > 127
    scale = min(1.0, side / max(full))
    return mask_at(kept, max(1, round(full[0] * scale)), max(1, round(full[1] * scale))), full[0]


def read_mask(path: Path, width: int, height: int, black_keeps: bool = False) -> NDArray[np.bool_]:
    """A mask file as (height, width) bool, True where the photo counts: white and opaque, or black where that keeps.

    It may have 8 or 16 bits, be grey, coloured, with a palette or transparent, and of any size of the photo's shape.

    Raises
    ------
    PlainError
        When it cannot be read or has another shape than the photo.
    """
    try:
        with Image.open(path) as image:
            size = image.size
            kept = _kept(image) if _same_shape(size, (width, height)) else None
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise PlainError(say("The mask {name} cannot be read.", name=path.name), "Save it again as PNG.") from error
    if kept is None:
        raise PlainError(
            say(
                "The mask {name} is {width} x {height} pixels, its photo (seen upright) {photo_width} x {photo_height}.",
                name=path.name,
                width=size[0],
                height=size[1],
                photo_width=width,
                photo_height=height,
            ),
            "Masks have the shape of their photos, at any size.",
        )
    return mask_at(~kept if black_keeps else kept, width, height)


def _same_shape(size: tuple[int, int], wanted: tuple[int, int]) -> bool:
    """Whether one is the other made larger or smaller, its sides rounded to whole pixels."""
    small, large = sorted((size, wanted))
    factor = large[0] / small[0]
    return abs(small[1] * factor - large[1]) <= max(factor, 0.005 * large[1])


def _kept(image: Image.Image) -> NDArray[np.bool_]:
    """Where a picture is white and opaque."""
    if image.mode.startswith(("I", "F")):  # 16 bits of grey: its white is 65535
        return np.asarray(image, np.float32) > 32767
    if "A" in image.getbands() or "transparency" in image.info:
        pixels = np.asarray(image.convert("RGBA"))
        return (np.asarray(image.convert("RGB").convert("L")) > 127) & (pixels[..., 3] > 127)
    return np.asarray(image.convert("L")) > 127


def depth_inside(mask: NDArray[np.bool_]) -> NDArray[np.float32]:
    """How far each pixel of a mask lies inside its rim (pixels); the frame of the photo is no rim."""
    padded = np.pad(mask.astype(np.uint8), 1, mode="edge")
    return np.asarray(cv2.distanceTransform(padded, cv2.DIST_L2, 5)[1:-1, 1:-1], np.float32)


def mask_at(mask: NDArray[np.bool_], width: int, height: int) -> NDArray[np.bool_]:
    """A mask resampled to another size; kept where most of the area is kept."""
    if mask.shape == (height, width):
        return mask
    how = cv2.INTER_AREA if width < mask.shape[1] else cv2.INTER_LINEAR
    return cv2.resize(mask.astype(np.float32), (width, height), interpolation=how) > 0.5
