"""Simpler levels of the model of a version of Texture or Finish, with their pictures encoded."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from PIL import Image

from vast_quarry.core.finish.edits import TexturedMesh
from vast_quarry.core.finish.levels import simpler
from vast_quarry.core.formats.pictures import as_jpeg
from vast_quarry.pipeline.atlas_files import texture_bytes
from vast_quarry.pipeline.steps.finish import load_textured

#: simpler levels besides the model, at most; quality of their JPEG pictures
MOST_LEVELS, QUALITY = 4, 95


def level_name(name: str, level: int) -> str:
    """Name of the files of a level: the model's own for 0."""
    return f"{name}-level{level}" if level else name


def levels_of(
    folder: Path, count: int, begun: Callable[[int], None] = lambda level: None
) -> Iterator[tuple[str, TexturedMesh, bytes]]:
    """The model in a folder and ``count`` simpler levels of it: what its name ends in, mesh and encoded picture.

    ``begun`` hears of each level (0 is the model) before it is made, and during the work; it may raise to cancel.
    """
    begun(0)
    mesh, data = load_textured(folder), texture_bytes(folder)
    yield level_name("", 0), mesh, data
    if not count:
        return
    with Image.open(io.BytesIO(data)) as image:
        picture = np.asarray(image.convert("RGB"))
    for level in range(1, count + 1):
        # each from the full model: errors of one level do not come into the next
        made, colors = simpler(mesh, picture, level, lambda level=level: begun(level))  # type: ignore[misc]
        yield level_name("", level), made, as_jpeg(colors[..., ::-1], QUALITY)
