"""An atlas cut into several pictures, numbered as UDIM has it: 1001 at the lower left, one more to the right, ten more upwards.

UDIM is a convention, written down with OpenImageIO and MaterialX (https://materialx.org, specification 1.38, "File name substitutions").
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.pictures import as_jpeg, colours_as_png, ending_of

#: number of the first tile, and tiles in a row
FIRST, ROW = 1001, 10
#: quality of the JPEG pictures
QUALITY = 95


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

    Returns
    -------
    uv : (W, 2)
        In each wedge's own tile, origin at the top left.
    tiles : list of Tile
        Those that colour anything, by number.

    Raises
    ------
    PlainError
        When the picture cannot be read.
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
    side = whole.shape[1] // tiles
    for j in range(tiles - 1, -1, -1):
        for i in range(tiles):
            mine = faces[(column == i) & (row == j)]
            if not len(mine):
                continue
            part = whole[j * side : (j + 1) * side, i * side : (i + 1) * side]
            data = as_jpeg(part, QUALITY) if ending_of(image) == ".jpg" else colours_as_png(part)
            out.append(Tile(FIRST + i + ROW * (tiles - 1 - j), mine, data))
    return local, out
