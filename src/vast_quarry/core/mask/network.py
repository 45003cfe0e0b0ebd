"""Masks by a segmentation network of the user's own, an ONNX file.

What it is given: one picture, 1 x 3 x S x S float32, red, green and blue from 0 to 1, the photo made smaller to fit and padded below
and on the right with grey (0.5). What it has to give: 1 x 1 x S' x S' (or 1 x S' x S'), how much each place is of the subject:
chances from 0 to 1, or log odds, where any value lies outside of that. ``S`` is 512 unless said otherwise. Nothing is shipped or fetched; the
network is run by OpenCV.
"""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.mask.edges import enlarged, largest_parts
from vast_quarry.core.words import say

Mask = NDArray[np.bool_]
SIDE = 512
#: largest file that is read (bytes)
LARGEST = 1_000_000_000


@lru_cache(maxsize=1)
def load_network(file: str, changed: int) -> Any:
    """The network in a file; ``changed`` is the time of its last change.

    Raises
    ------
    PlainError
        When it cannot be read.
    """
    try:
        if Path(file).stat().st_size > LARGEST:
            raise ValueError
        return cv2.dnn.readNetFromONNX(np.frombuffer(Path(file).read_bytes(), np.uint8))
    except (OSError, ValueError, cv2.error) as error:
        raise PlainError(
            say("The network {name} cannot be read.", name=Path(file).name),
            "It has to be an ONNX file; see docs/masks.md.",
        ) from error


def by_network(rgb: NDArray[np.uint8], file: Path, side: int = SIDE) -> tuple[Mask, float]:
    """Mask (H, W) of a photo (H, W, 3) by a network, and how sure it is of what it keeps (0 to 1).

    Raises
    ------
    PlainError
        When the file is no network, or gives something else than one picture.
    """
    try:
        changed = file.stat().st_mtime_ns
    except OSError as error:
        raise PlainError(say("There is no network at {file}.", file=file), "Check the path.") from error
    network = load_network(str(file), changed)
    scale = side / max(rgb.shape[:2])
    w, h = max(1, round(rgb.shape[1] * scale)), max(1, round(rgb.shape[0] * scale))
    given = np.full((1, 3, side, side), 0.5, np.float32)
    small = cv2.resize(rgb, (w, h), interpolation=cv2.INTER_AREA)
    given[0, :, :h, :w] = small.transpose(2, 0, 1) / 255.0
    try:
        network.setInput(given)
        out = np.asarray(network.forward(), np.float32)
    except cv2.error as error:
        raise PlainError(
            say("The network {name} does not take a picture of {side} x {side}.", name=file.name, side=side),
            "See docs/masks.md for what it is given.",
        ) from error
    out = out.reshape(out.shape[-2:]) if out.ndim >= 2 and out.size == out.shape[-1] * out.shape[-2] else out
    if out.ndim != 2 or not np.isfinite(out).all():
        raise PlainError(
            say("The network {name} gives something else than one picture.", name=file.name),
            "It has to give one value for each place; see docs/masks.md.",
        )
    if out.min() < 0 or out.max() > 1:
        out = 1 / (1 + np.exp(-out.clip(-60, 60)))
    chance = cv2.resize(out, (side, side), interpolation=cv2.INTER_LINEAR)[:h, :w]
    mask = largest_parts(chance > 0.5)
    return enlarged(mask, rgb), float(chance[mask].mean()) if mask.any() else 0.0
