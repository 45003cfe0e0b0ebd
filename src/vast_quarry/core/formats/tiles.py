"""An atlas cut into several pictures, numbered as UDIM has it: 1001 at the lower left, one more to the right, ten more upwards.

UDIM is a convention, written down with OpenImageIO and MaterialX (https://materialx.org, specification 1.38, "File name substitutions").
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError

#: number of the first tile, and tiles in a row
FIRST, ROW = 1001, 10
#: how pictures are encoded: colours of JPEG at full size; of PNG, which is of 16 bits here, the last bits are noise, in which nothing
#: comes again: only frequent values are written shorter (twice as quick as the usual way, and smaller)
HOW = {
    ".jpg": [cv2.IMWRITE_JPEG_QUALITY, 95, cv2.IMWRITE_JPEG_SAMPLING_FACTOR, cv2.IMWRITE_JPEG_SAMPLING_FACTOR_444],
    ".png": [cv2.IMWRITE_PNG_COMPRESSION, 1, cv2.IMWRITE_PNG_STRATEGY, cv2.IMWRITE_PNG_STRATEGY_HUFFMAN_ONLY],
}


@dataclass(frozen=True)
class Tile:
    """One of the pictures: its number, the faces (K, 3) that it colours, and the encoded picture."""

    number: int
    faces: NDArray
    image: bytes


def tile_of(uv: NDArray, faces: NDArray, tiles: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Column and row (M,) of the tile that each face lies in; ``uv`` (W, 2) with the origin at the top left, rows counted down."""
    at = np.clip(np.floor(uv[faces].mean(1) * tiles), 0, tiles - 1).astype(np.int64)
    return at[:, 0], at[:, 1]


def cut_apart(uv: NDArray, faces: NDArray, image: bytes, tiles: int) -> tuple[NDArray, list[Tile]]:
    """Cut an atlas of which no face crosses from one tile to the next.

    Raises
    ------
    PlainError
        When the picture cannot be read.

    Returns
    -------
    uv : (W, 2)
        In each wedge's own tile, origin at the top left.
    tiles : list of Tile
        Those that colour anything, by number.
    """
    if tiles == 1:
        return uv, [Tile(FIRST, faces, image)]
    column, row = tile_of(uv, faces, tiles)
    local = np.array(uv, float) * tiles
    local[faces.reshape(-1)] -= np.repeat(np.stack([column, row], 1), 3, axis=0)
    out = []
    whole = cv2.imdecode(np.frombuffer(image, np.uint8), cv2.IMREAD_UNCHANGED)
    if whole is None:
        raise PlainError("The texture is damaged.", "Make it again.")
    ending, how = ending_of(image), HOW[ending_of(image)]
    side = whole.shape[1] // tiles
    for j in range(tiles - 1, -1, -1):
        for i in range(tiles):
            mine = faces[(column == i) & (row == j)]
            if not len(mine):
                continue
            part = np.ascontiguousarray(whole[j * side : (j + 1) * side, i * side : (i + 1) * side])
            data = cv2.imencode(ending, part, how)[1].tobytes()
            out.append(Tile(FIRST + i + ROW * (tiles - 1 - j), mine, data))
    return local, out


def ending_of(image: bytes) -> str:
    """Ending of a file of an encoded picture, which is PNG or JPEG."""
    return ".png" if image.startswith(b"\x89PNG") else ".jpg"
