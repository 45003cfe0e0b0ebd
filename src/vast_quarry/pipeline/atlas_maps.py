"""Pictures to lay over a texture: what no photo saw, which photo each part is from, and how much charts are stretched."""

from __future__ import annotations

import colorsys
import io
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from vast_quarry.core.texture.charts import stretch
from vast_quarry.core.texture.packing import raster_faces
from vast_quarry.pipeline.atlas_files import GUESSED_SHADE, SEEN_MAP, SOURCE_MAP

MapKind = Literal["guessed", "source", "stretch"]

#: sides of these pictures at most, and what is guessed is drawn in
SIDE, GUESSED_TONE = 2048, (200, 120, 20, 235)
#: stretch that is drawn in the last of these tones (red, green, blue); 1 is drawn in the first
MOST_STRETCHED = 2.0
STRETCH_TONES = np.array([(226, 239, 226), (122, 190, 176), (36, 124, 148), (60, 52, 110)], float)


def atlas_map(folder: Path, kind: MapKind) -> bytes | None:
    """A PNG to lay over the texture of a version, no larger than :data:`SIDE`; None where the version did not write down what it needs."""
    made = {"guessed": guessed_map, "source": source_map, "stretch": stretch_map}[kind](folder)
    if made is None:
        return None
    out = io.BytesIO()
    Image.fromarray(made).save(out, format="PNG")
    return out.getvalue()


def guessed_map(folder: Path) -> NDArray[np.uint8] | None:
    """Ochre where colour was guessed (H, W, 4): a texel that was shows however much smaller the picture is."""
    if not (folder / SEEN_MAP).exists():
        return None
    with Image.open(folder / SEEN_MAP) as picture:
        factor = max(1, picture.width // SIDE)
        guessed = np.asarray(picture) == GUESSED_SHADE
    high, wide = (n // factor * factor for n in guessed.shape)
    guessed = guessed[:high, :wide].reshape(high // factor, factor, -1, factor).any((1, 3))
    out = np.zeros((*guessed.shape, 4), np.uint8)
    out[guessed] = GUESSED_TONE
    return out


def photo_tone(row: int) -> tuple[int, int, int]:
    """The tone of a photo: those of neighbours in the alignment lie far apart."""
    hue = (row * 0.618034) % 1.0  # the golden ratio: no few of them fall together
    r, g, b = colorsys.hls_to_rgb(hue, 0.42 + 0.16 * (row % 3), 0.55)
    return round(255 * r), round(255 * g), round(255 * b)


def source_map(folder: Path) -> NDArray[np.uint8] | None:
    """The tone of the photo that counts most for each texel (H, W, 4); clear where none does."""
    if not (folder / SOURCE_MAP).exists():
        return None
    with Image.open(folder / SOURCE_MAP) as picture:
        source = np.asarray(picture)
    factor = max(1, source.shape[1] // SIDE)
    source = source[::factor, ::factor].astype(np.int64)
    tones = np.array([(0, 0, 0, 0), *((*photo_tone(k), 255) for k in range(int(source.max(initial=0))))], np.uint8)
    return tones[source]


def stretch_map(folder: Path) -> NDArray[np.uint8]:
    """How much longer a face is drawn one way than the other, against how it is (H, W, 4); clear between charts."""
    with np.load(folder / "model.npz") as f:
        vertices, uv, faces = f["vertices"], f["uv"], f["faces"]
    with Image.open(folder / "texture.jpg") as picture:
        side = min(picture.width, SIDE)
    face = raster_faces(uv * side - 0.5, faces, side)
    much = np.clip((stretch(vertices, uv, faces) - 1) / (MOST_STRETCHED - 1), 0, 1) * (len(STRETCH_TONES) - 1)
    tones = np.stack([np.interp(much, np.arange(len(STRETCH_TONES)), STRETCH_TONES[:, k]) for k in range(3)], 1)
    out = np.zeros((side, side, 4), np.uint8)
    out[..., :3] = tones.astype(np.uint8)[face]
    out[..., 3] = np.where(face >= 0, 255, 0)
    return out
