"""Textures and their maps as encoded pictures: JPEG, and PNG of 8 and 16 bits. Colours are blue, green, red."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError


def eight_bits(picture: NDArray) -> NDArray[np.uint8]:
    """A picture of 8 or 16 bits with 8."""
    return picture if picture.dtype == np.uint8 else np.asarray(picture // 257, np.uint8)


def as_jpeg(picture: NDArray[np.uint8], quality: int) -> bytes:
    """A picture (H, W, 3) as a JPEG file, its colours at full size.

    Raises
    ------
    PlainError
        When it is too large for such a file.
    """
    return _encoded(
        ".jpg", picture,
        [cv2.IMWRITE_JPEG_QUALITY, quality, cv2.IMWRITE_JPEG_SAMPLING_FACTOR, cv2.IMWRITE_JPEG_SAMPLING_FACTOR_444],
    )  # fmt: skip


def map_as_png(picture: NDArray) -> bytes:
    """A picture (H, W) of few values, or one of 8 bits (H, W, 3), as a PNG file.

    Raises
    ------
    PlainError
        When it is too large for such a file.
    """
    return _encoded(".png", picture, [cv2.IMWRITE_PNG_COMPRESSION, 6])


def colours_as_png(picture: NDArray[np.uint16]) -> bytes:
    """A picture (H, W, 3) of 16 bits as a PNG file.

    Its last bits are noise, in which nothing comes again: only frequent values are written shorter (twice as quick as the usual way, and
    smaller).

    Raises
    ------
    PlainError
        When it is too large for such a file.
    """
    return _encoded(
        ".png", picture,
        [cv2.IMWRITE_PNG_COMPRESSION, 1, cv2.IMWRITE_PNG_STRATEGY, cv2.IMWRITE_PNG_STRATEGY_HUFFMAN_ONLY],
    )  # fmt: skip


def ending_of(image: bytes) -> str:
    """Ending of a file of an encoded picture, which is PNG or JPEG."""
    return ".png" if image.startswith(b"\x89PNG") else ".jpg"


def _encoded(kind: str, picture: NDArray, how: list[int]) -> bytes:
    try:
        ok, data = cv2.imencode(kind, np.ascontiguousarray(picture), how)
    except cv2.error:
        ok, data = False, np.zeros(0, np.uint8)
    if not ok:
        raise PlainError(
            "The texture is too large for one picture.", "Take a smaller “Largest texture”, or several pictures."
        )
    return data.tobytes()
