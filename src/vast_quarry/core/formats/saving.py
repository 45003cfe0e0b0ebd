"""A model as a file of any of the formats there are, chosen by the file's ending."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np

from vast_quarry.core.formats.atomic import no_such_format, told_when_it_fails
from vast_quarry.core.formats.gltf import MaterialMaps, write_glb
from vast_quarry.core.formats.models import Model
from vast_quarry.core.formats.obj import write_obj
from vast_quarry.core.formats.pictures import as_jpeg, colours_as_png, eight_bits
from vast_quarry.core.formats.ply import PlyData, write_ply
from vast_quarry.core.formats.stl import write_stl
from vast_quarry.core.formats.threemf import write_3mf
from vast_quarry.core.formats.usd import write_usd
from vast_quarry.core.surface.mesh import same_places

#: quality of JPEG textures
QUALITY = 95


def picture_bytes(model: Model, deep: bool = True) -> bytes:
    """The texture encoded: 8 bits as JPEG, 16 as PNG where ``deep`` is wanted; a plain grey where there is none."""
    picture = model.picture
    if picture is None or model.uv is None:
        picture = np.full((4, 4, 3), 190, np.uint8)
    if picture.dtype == np.uint16 and deep:
        return colours_as_png(picture)
    picture = eight_bits(picture)
    if picture.shape[0] != picture.shape[1]:
        # levels, tiles and coordinates go by one side
        side = max(picture.shape[:2])
        picture = cv2.resize(picture, (side, side), interpolation=cv2.INTER_AREA)
    return as_jpeg(picture, QUALITY)


def _uv(model: Model) -> np.ndarray:
    return model.uv if model.uv is not None else np.zeros((len(model.vertices), 2))


def _glb(path: Path, model: Model, maps: MaterialMaps | None) -> None:
    write_glb(path, model.vertices, model.normals, _uv(model), model.faces, picture_bytes(model, deep=False), maps=maps)


def _obj(path: Path, model: Model, maps: MaterialMaps | None) -> None:
    write_obj(path, model.vertices, model.normals, _uv(model), model.faces, picture_bytes(model))


def _ply(path: Path, model: Model, maps: MaterialMaps | None) -> None:
    data = PlyData(model.vertices, model.normals.astype(np.float32), model.colors, model.faces, model.extra)
    if data.colors is None and model.picture is not None and model.uv is not None:
        data.colors = colors_of_vertices(model)
    write_ply(path, data)


def _stl(path: Path, model: Model, maps: MaterialMaps | None) -> None:
    write_stl(path, model.vertices, model.faces)


def _usd(path: Path, model: Model, maps: MaterialMaps | None) -> None:
    write_usd(
        path, model.vertices, model.normals, _uv(model), model.faces, picture_bytes(model, deep=False), maps, path.stem
    )


def _3mf(path: Path, model: Model, maps: MaterialMaps | None) -> None:
    first, which = same_places(model.vertices)
    colors = model.colors
    if colors is None and model.picture is not None and model.uv is not None:
        colors = colors_of_vertices(model)
    faces = which[model.faces].astype(np.int64)
    write_3mf(path, model.vertices[first], faces, None if colors is None else colors[first], path.stem)


Writer = Callable[[Path, Model, MaterialMaps | None], None]
WRITERS: dict[str, Writer] = {
    ".glb": _glb, ".obj": _obj, ".ply": _ply, ".stl": _stl, ".usdz": _usd, ".usda": _usd, ".usdc": _usd, ".3mf": _3mf,
}  # fmt: skip


def colors_of_vertices(model: Model) -> np.ndarray:
    """Colours (W, 3), red, green, blue, out of the texture."""
    assert model.picture is not None
    assert model.uv is not None
    h, w = model.picture.shape[:2]
    at = np.clip((model.uv * (w, h)).astype(int), 0, (w - 1, h - 1))
    taken = model.picture[at[:, 1], at[:, 0], ::-1]
    return eight_bits(taken)


def save_model(path: Path, model: Model, maps: MaterialMaps | None = None) -> None:
    """Write a model; what its format has no place for is left out.

    Raises
    ------
    PlainError
        When the ending says no format there is, or the file cannot be written.
    """
    writer = WRITERS.get(path.suffix.lower())
    if writer is None:
        raise no_such_format(path.suffix or path.name, WRITERS)
    with told_when_it_fails(path):
        writer(path, model, maps)
