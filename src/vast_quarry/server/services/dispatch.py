"""Dispatch: the model in open formats, with the axis convention and unit of the destination."""

from __future__ import annotations

import hashlib
import zipfile
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, Field

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.edits import welded
from vast_quarry.core.formats.atomic import array_shapes, atomic_write
from vast_quarry.core.formats.gltf import write_glb
from vast_quarry.core.formats.obj import write_obj
from vast_quarry.core.formats.ply import PlyData, write_ply
from vast_quarry.core.formats.stl import write_stl
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.pipeline.steps.finish import load_textured
from vast_quarry.pipeline.steps.texture import texture_bytes
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.sizes import trim_cache

#: units to a metre
UNITS = {"m": 1.0, "cm": 100.0, "mm": 1000.0}


class ParcelIn(BaseModel):
    """What to hand out."""

    format: str = Field("glb", pattern="^(glb|obj|ply|stl)$")
    up: str = Field("y", pattern="^(y|z)$")
    unit: str = Field("m", pattern="^(m|cm|mm)$")
    layer: str = Field("finish", pattern="^(texture|finish)$")


class ParcelOut(BaseModel):
    """A kind of parcel with what its importers expect and how large it will be."""

    format: str
    title: str
    up: str
    unit: str
    bytes: int
    textured: bool


def source_layer(folders: Folders) -> str:
    """Finish when something is kept there, else Texture."""
    return "finish" if "finish" in folders.store.in_use() else "texture"


def parcels_of(folders: Folders) -> list[ParcelOut]:
    """All kinds, with sizes as they will be (binary kinds exactly, text closely)."""
    layer = source_layer(folders)
    version = version_of(folders, layer, None)
    folder = folders.store.folder(version)
    shapes = array_shapes(folder / "model.npz")
    wedges, faces = shapes["vertices"][0], shapes["faces"][0]
    plain = min(wedges, faces // 2 + 2)  # a closed surface without seams has so many corners (Euler)
    image = (folder / "texture.jpg").stat().st_size
    return [
        ParcelOut(format="glb", title="glTF binary", up="y", unit="m", bytes=wedges * 32 + faces * 12 + image + 2200, textured=True),
        ParcelOut(format="obj", title="OBJ with MTL and texture (zip)", up="y", unit="m", bytes=int((wedges * 78 + faces * 36) * 0.42) + image, textured=True),
        ParcelOut(format="ply", title="PLY", up="z", unit="m", bytes=plain * 24 + faces * 13 + 300, textured=False),
        ParcelOut(format="stl", title="STL for printing", up="z", unit="mm", bytes=faces * 50 + 84, textured=False),
    ]  # fmt: skip


def _oriented(v: NDArray, up: str, for_y_writer: bool) -> NDArray:
    """Vectors for a writer that turns to Y up by itself (or does not), so that the file has the wanted axis."""
    if for_y_writer:  # these writers write (x, z, -y): undo that for Z up
        return v if up == "y" else np.stack([v[:, 0], -v[:, 2], v[:, 1]], 1)
    return v if up == "z" else np.stack([v[:, 0], v[:, 2], -v[:, 1]], 1)


def make_parcel(folders: Folders, wanted: ParcelIn, name: str) -> Path:
    """Write a parcel, once for each version and convention; returns the file."""
    version = version_of(folders, wanted.layer, None)
    tag = hashlib.sha256(f"{version.key}|{wanted.model_dump_json()}".encode()).hexdigest()[:16]
    folder = folders.cache / f"parcel-{tag}"
    ending = "zip" if wanted.format == "obj" else wanted.format
    target = folder / f"{name}.{ending}"
    if target.exists():
        return target
    folder.mkdir(parents=True, exist_ok=True)
    trim_cache(folders)
    source = folders.store.folder(version)
    mesh, scale = load_textured(source), UNITS[wanted.unit]
    y_writer = wanted.format in ("glb", "obj")
    v, n = (_oriented(x, wanted.up, y_writer) for x in (mesh.vertices * scale, mesh.normals))
    if wanted.format == "glb":
        write_glb(target, v, n, mesh.uv, mesh.faces, texture_bytes(source), name=name)
    elif wanted.format == "obj":
        write_obj(folder / f"{name}.obj", v, n, mesh.uv, mesh.faces, texture_bytes(source))
        with atomic_write(target) as out, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=4) as z:
            for part in (".obj", ".mtl", ".jpg"):
                z.write(folder / f"{name}{part}", f"{name}{part}")
    else:
        plain_v, plain_f = welded(mesh)
        plain_v = _oriented(plain_v * scale, wanted.up, False)
        if wanted.format == "ply":
            write_ply(target, PlyData(plain_v, vertex_normals(plain_v, plain_f).astype(np.float32), None, plain_f))
        elif wanted.format == "stl":
            write_stl(target, plain_v, plain_f)
        else:
            raise PlainError(f"There is no format called {wanted.format}.")
    return target
