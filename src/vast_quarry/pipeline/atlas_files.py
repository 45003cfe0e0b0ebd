"""The pictures of an atlas: put together from its bands in files that are mapped, so that a large one takes no more memory than a small one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.formats.pictures import as_jpeg, colours_as_png, map_as_png
from vast_quarry.core.words import say
from vast_quarry.pipeline.memory import free_memory
from vast_quarry.pipeline.units import color as units

#: file that says which photo counts most for each texel: row in the alignment plus one, 0 where none does
SOURCE_MAP = "source.png"
#: file that says which texels photos saw, and the shade of those whose colour was taken from around
SEEN_MAP, GUESSED_SHADE = "seen.png", 128
#: the texture of a version, and the same in 16 bits where that was wanted
TEXTURE, DEEP_TEXTURE = "texture.jpg", "texture-16bit.png"
#: rows that are handled together
ROWS = 512


@dataclass
class Sheets:
    """An atlas: its picture (H, W, 3; blue, green, red) in 8 or 16 bits, what each texel is (H, W) and which photo it came from (H, W)."""

    picture: NDArray
    kind: NDArray[np.uint8]
    source: NDArray[np.uint16]

    def write(self, folder: Path, quality: int) -> None:
        """Keep the picture, which texels photos saw (white; grey where colour was taken from around, black between charts), and the
        photos; ``kind`` is used up."""
        shade = np.zeros(256, np.uint8)
        shade[[units.GUESSED, units.SEEN]] = GUESSED_SHADE, 255
        for a in range(0, len(self.kind), ROWS):
            self.kind[a : a + ROWS] = shade[self.kind[a : a + ROWS]]
        _put(folder / SEEN_MAP, map_as_png(self.kind))
        _put(folder / SOURCE_MAP, map_as_png(self.source))
        if self.picture.dtype == np.uint16:
            _put(folder / DEEP_TEXTURE, colours_as_png(self.picture))
        _put(folder / TEXTURE, as_jpeg(self._in_eight_bits(), quality))

    def _in_eight_bits(self) -> NDArray[np.uint8]:
        """The picture in 8 bits; one of 16 bits is used up, for it is not held twice."""
        if self.picture.dtype == np.uint8:
            return self.picture
        # a file of its own would be as good, but for the disk that it takes
        eight = self.picture.reshape(-1).view(np.uint8)[: self.picture.size]
        flat = self.picture.reshape(-1)
        step = ROWS * self.picture.shape[1] * 3
        for first in range(0, len(flat), step):
            part = flat[first : first + step].astype(np.uint32)
            eight[first : first + len(part)] = (part + 128) // 257
        return eight.reshape(self.picture.shape)


#: bytes of memory that an atlas takes for each of its texels while it is put together and encoded, in 8 bits and in 16, beside what is
#: mapped (measured of 8192 and 16384 a side: 2 to 4, and 6.5)
SHEET_BYTES, DEEP_SHEET_BYTES = 4.5, 7.0
#: most texels a side that a JPEG file holds
MOST_SIDE = 65_500


def check_room(side: int, tiles: int, deep: bool, sizes: Sequence[int]) -> None:
    """Refuse an atlas of ``tiles`` squared pictures that memory does not hold.

    What is made is the same on every machine, or is not made: how large an atlas grows does not go by what is free.

    Parameters
    ----------
    side : int
        Texels a side that it has.
    sizes : sequence of int
        Sides that one picture may have, least first.

    Raises
    ------
    PlainError
        When memory does not hold so many; it says which size would fit.
    """
    free, each = free_memory(), DEEP_SHEET_BYTES if deep else SHEET_BYTES
    most = int(min(MOST_SIDE, np.sqrt(free / each)))
    if side <= most:
        return
    fits = max((s for s in sizes if s * tiles <= most), default=sizes[0])
    raise PlainError(
        say(
            "A texture of {side} pixels a side takes {needed} GB of memory, and {free} GB are free.",
            side=side, needed=round(each * side**2 / 1e9, 1), free=round(free / 1e9, 1),
        )
        if side <= MOST_SIDE
        else say("A texture of {side} pixels a side is more than a picture file holds.", side=side),
        say("Take {fits} as the largest texture.", fits=fits)
        if tiles == 1
        else say("Take {fits} as the largest texture, or fewer pictures.", fits=fits),
    )  # fmt: skip


def joined_bands(folder: Path, size: int, starts: list[int], deep: bool = False) -> Sheets:
    """The bands of an atlas in one, as files in ``folder``; those of the bands go."""
    shapes = (
        ("picture", np.uint16 if deep else np.uint8, (size, size, 3)),
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


def _put(file: Path, data: bytes) -> None:
    with atomic_write(file) as out:
        out.write(data)


def texture_bytes(folder: Path) -> bytes:
    """The encoded texture of a version of Texture."""
    return (folder / TEXTURE).read_bytes()


def deepest_texture(folder: Path) -> bytes | None:
    """The texture of a version in 16 bits a channel, as PNG; None where it was made in 8."""
    file = folder / DEEP_TEXTURE
    return file.read_bytes() if file.exists() else None
