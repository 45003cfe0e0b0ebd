"""The pictures of an atlas: put together from its bands in files that are mapped, so that a large one takes no more memory than a small one."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.pipeline.units import color as units

#: file that says which photo counts most for each texel: row in the alignment plus one, 0 where none does
SOURCE_MAP = "source.png"
#: file that says which texels photos saw, and the shade of those whose colour was taken from around
SEEN_MAP, GUESSED_SHADE = "seen.png", 128
#: the texture of a version
TEXTURE = "texture.jpg"
#: rows that are handled together
ROWS = 512


@dataclass
class Sheets:
    """An atlas: its picture (H, W, 3; blue, green, red), what each texel is (H, W) and which photo it came from (H, W)."""

    picture: NDArray[np.uint8]
    kind: NDArray[np.uint8]
    source: NDArray[np.uint16]

    def write(self, folder: Path, quality: int) -> None:
        """Keep the picture, which texels photos saw (white; grey where colour was taken from around, black between charts), and the
        photos; ``kind`` is used up."""
        shade = np.zeros(256, np.uint8)
        shade[[units.GUESSED, units.SEEN]] = GUESSED_SHADE, 255
        for a in range(0, len(self.kind), ROWS):
            self.kind[a : a + ROWS] = shade[self.kind[a : a + ROWS]]
        for name, data in (
            (TEXTURE, encoded(self.picture, quality)), (SEEN_MAP, _png(self.kind)), (SOURCE_MAP, _png(self.source))
        ):  # fmt: skip
            with atomic_write(folder / name) as out:
                out.write(data)


def joined_bands(folder: Path, size: int, starts: list[int]) -> Sheets:
    """The bands of an atlas in one, as files in ``folder``; those of the bands go."""
    shapes = (
        ("picture", np.uint8, (size, size, 3)),
        ("kind", np.uint8, (size, size)),
        ("source", np.uint16, (size, size)),
    )
    sheets = Sheets(*(np.lib.format.open_memmap(folder / f"{n}.npy", "w+", t, shape) for n, t, shape in shapes))
    for a in starts:
        file = folder / f"band-{a:06d}.npz"
        with np.load(file) as f:
            kind = f["kind"]
            here = slice(a, a + len(kind))
            sheets.picture[here], sheets.kind[here], sheets.source[here] = f["picture"][..., ::-1], kind, f["source"]
        file.unlink()
    return sheets


def encoded(picture: NDArray[np.uint8], quality: int) -> bytes:
    """A picture (H, W, 3; blue, green, red) as a JPEG file, its colours at full size.

    Raises
    ------
    PlainError
        When it is too large for such a file.
    """
    return _encoded(
        ".jpg", np.ascontiguousarray(picture),
        [cv2.IMWRITE_JPEG_QUALITY, quality, cv2.IMWRITE_JPEG_SAMPLING_FACTOR, cv2.IMWRITE_JPEG_SAMPLING_FACTOR_444],
    )  # fmt: skip


def _png(picture: NDArray) -> bytes:
    return _encoded(".png", picture, [cv2.IMWRITE_PNG_COMPRESSION, 6])


def _encoded(kind: str, picture: NDArray, how: list[int]) -> bytes:
    try:
        ok, data = cv2.imencode(kind, picture, how)
    except cv2.error:
        ok, data = False, np.zeros(0, np.uint8)
    if not ok:
        raise PlainError(
            "The texture is too large for one picture.", "Take a smaller “Largest texture”, or several pictures."
        )
    return data.tobytes()


def texture_bytes(folder: Path) -> bytes:
    """The encoded texture of a version of Texture."""
    return (folder / TEXTURE).read_bytes()
