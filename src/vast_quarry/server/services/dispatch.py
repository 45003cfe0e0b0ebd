"""Dispatch: the model, its cloud and its cameras in open formats.

Where a format says which axis is up and what a unit is (glTF: Y, metres), it is written so, and its reader turns and scales it.
Axis and unit are asked for where the format says neither.
"""

from __future__ import annotations

import hashlib
import io
import re
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Literal, Self

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic import BaseModel, Field, model_validator
from sqlmodel import Session, col, select

from vast_quarry.core.finish.edits import TexturedMesh, vertex_colors, welded
from vast_quarry.core.finish.levels import size_of_level
from vast_quarry.core.finish.picturing import Film, Studio, frames
from vast_quarry.core.finish.printing import check as print_check
from vast_quarry.core.formats.atomic import array_shapes, atomic_write, link_or_copy, write_json
from vast_quarry.core.formats.clouds import Cloud, save_cloud
from vast_quarry.core.formats.films import write_film
from vast_quarry.core.formats.gltf import write_glb, y_up
from vast_quarry.core.formats.models import Model, z_up
from vast_quarry.core.formats.obj import write_obj
from vast_quarry.core.formats.ply import PlyData, write_ply
from vast_quarry.core.formats.saving import save_model
from vast_quarry.core.formats.stl import write_stl
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.words import say
from vast_quarry.pipeline.atlas_files import DEEP_TEXTURE, SEEN_MAP, TEXTURE, deepest_texture, texture_bytes
from vast_quarry.pipeline.destinations import DESTINATIONS, save_for
from vast_quarry.pipeline.levels import MOST_LEVELS, levels_of
from vast_quarry.pipeline.sentence import as_data
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.step import Reporter
from vast_quarry.pipeline.steps.finish import load_textured
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.pipeline.viewer import write_viewer
from vast_quarry.server.models import Job, Project
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.jobs import add_job
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.sizes import trim_cache

Format = Literal[
    "glb", "obj", "ply", "stl", "usdz", "3mf", "game", "view", "film", "check", "cloud", "las", "e57", "cameras"
]  # fmt: skip
Up = Literal["y", "z"]
Unit = Literal["m", "cm", "mm"]
#: rises when files are written in another way: those that were made before are not taken for these
WAY = 3
#: units to a metre
UNITS = {"m": 1.0, "cm": 100.0, "mm": 1000.0}
#: formats that say themselves which axis is up and what a unit is: glTF 2.0 (3.4, coordinate system and units), our cameras
FIXED: dict[str, tuple[Up, Unit]] = {
    "glb": ("y", "m"), "usdz": ("y", "m"), "game": ("y", "m"), "view": ("y", "m"), "film": ("z", "m"), "check": ("z", "mm"), "3mf": ("z", "mm"),
    "las": ("z", "m"), "e57": ("z", "m"), "cameras": ("z", "m"),
}  # fmt: skip
#: endings of the files of each kind, where they are not its name
ENDINGS = {
    "cloud": "ply",
    "las": "laz",
    "cameras": "json",
    "game": "glb",
    "view": "html",
    "film": "mp4",
    "check": "json",
}
#: kinds made of the dense cloud, and those made of the model by one function each
OF_CLOUD, SINGLE = ("cloud", "las", "e57"), ("usdz", "3mf", "game", "view", "film", "check")


class ParcelIn(BaseModel):
    """What to hand out."""

    format: Format = "glb"
    up: Up = "y"
    unit: Unit = "m"
    levels: int = Field(0, ge=0, le=MOST_LEVELS, description="Simpler levels besides the model")

    @model_validator(mode="after")
    def _as_the_standard_says(self) -> Self:
        if self.format in FIXED and (self.up, self.unit) != FIXED[self.format]:
            up, unit = FIXED[self.format]
            raise ValueError(f"this format has {up.upper()} up and {unit}; its reader turns and scales it")
        return self


class ParcelOut(BaseModel):
    """A kind of parcel with what its importers expect and how large it will be."""

    format: Format
    title: str
    up: Up
    unit: Unit
    #: whether axis and unit may be chosen
    asks: bool
    bytes: int
    carries: Literal["texture", "colours", "shape", "points", "cameras", "maps", "alone", "film"]
    triangles: list[int] = Field(
        description="Of the model, and of each simpler level that there can be; none where it is no mesh"
    )


class ParcelsOut(BaseModel):
    """What can be saved, and how large the model is, in metres: along x, y (back) and z (up)."""

    kinds: list[ParcelOut]
    size: tuple[float, float, float]
    #: edits of the draft in Finish that the model is without, since they are not saved as a version
    unsaved: int


def source_layer(folders: Folders) -> str:
    """Finish when something is kept there, else Texture."""
    return "finish" if "finish" in folders.store.in_use() else "texture"


def unsaved_edits(project: Project, folders: Folders) -> int:
    """Edits of the open draft, where no version in use holds them."""
    edits = project.draft[: project.draft_done]
    if "finish" in folders.store.in_use():
        kept = list(version_of(folders, "finish", None).settings.get("edits") or [])
        return 0 if edits in ([], kept) else len(edits)
    return len(edits)


def parcels_of(project: Project, folders: Folders) -> ParcelsOut:
    """All kinds, with sizes as they will be (binary kinds exactly, text closely)."""
    layer = source_layer(folders)
    version = version_of(folders, layer, None)
    folder = folders.store.folder(version)
    shapes = array_shapes(folder / "model.npz")
    wedges, faces = shapes["vertices"][0], shapes["faces"][0]
    plain = min(wedges, faces // 2 + 2)  # a closed surface without seams has so many corners (Euler)
    image, deep_file = (folder / TEXTURE).stat().st_size, folder / DEEP_TEXTURE
    deep = deep_file.stat().st_size if deep_file.exists() else 0
    counts = sorted({size_of_level(faces, 1, k)[0] for k in range(MOST_LEVELS + 1)}, reverse=True)
    with np.load(folder / "model.npz") as model:
        width, depth, height = np.ptp(model["vertices"], axis=0).astype(float).tolist()
    kinds = [
        _kind("glb", "y", "m", "texture", wedges * 32 + faces * 12 + image + 2200, counts, title="glTF binary"),
        _kind("obj", "y", "m", "texture", int((wedges * 78 + faces * 36) * 0.42) + (deep or image), counts, title="OBJ with MTL and texture (zip)"),
        _kind("ply", "z", "m", "colours", plain * 27 + faces * 13 + 300, counts, title="PLY"),
        _kind("stl", "z", "mm", "shape", faces * 50 + 84, counts, title="STL for printing"),
        _kind("usdz", "y", "m", "texture", int(wedges * 24 + faces * 8) + image + 4000, title="USDZ"),
        _kind("3mf", "z", "mm", "colours", int(faces * 19), title="3MF, closed for printing"),
        _kind("game", "y", "m", "maps", 5_000_000, title="glTF binary, 7,500 triangles with baked maps"),
        _kind("view", "y", "m", "alone", int((wedges * 8 + faces * 4 + image) * 1.34) + 870_000, title="One HTML file"),
        _kind("film", "z", "m", "film", 3_000_000, title="MP4, ten seconds, 1280 × 720"),
        *_beside_the_model(folders),
    ]  # fmt: skip
    return ParcelsOut(kinds=kinds, size=(width, depth, height), unsaved=unsaved_edits(project, folders))


def _kind(
    form: Format, up: Up, unit: Unit, carries: Any, size: int, triangles: list[int] | None = None, *, title: str
) -> ParcelOut:
    return ParcelOut(
        format=form, title=title, up=up, unit=unit, asks=form not in FIXED, carries=carries, bytes=size, triangles=triangles or []
    )  # fmt: skip


def _beside_the_model(folders: Folders) -> list[ParcelOut]:
    """The dense cloud and the cameras, where there are any."""
    out, now = [], folders.store.in_use()
    if "points" in now:
        points = int(version_of(folders, "points", None).figures.get("points") or 0)
        out.append(_kind("cloud", "z", "m", "points", points * 39 + 400, title="Dense cloud, PLY"))
        out.append(_kind("las", "z", "m", "points", points * 9, title="Dense cloud, LAZ (LAS 1.4)"))
        out.append(_kind("e57", "z", "m", "points", points * 16, title="Dense cloud, E57"))
    if "cameras" in now:
        size = _cameras_file(folders).stat().st_size
        out.append(_kind("cameras", "z", "m", "cameras", size, title="Cameras, JSON"))
    return out


def _cameras_file(folders: Folders) -> Path:
    return folders.store.folder(version_of(folders, "cameras", None)) / "cameras.json"


def layer_of(folders: Folders, form: Format) -> str:
    """The layer that a kind of parcel is made of."""
    if form in OF_CLOUD:
        return "points"
    return "cameras" if form == "cameras" else source_layer(folders)


def _oriented(v: NDArray, up: str, for_y_writer: bool) -> NDArray:
    """Vectors for a writer that turns to Y up by itself (or does not), so that the file has the wanted axis."""
    if for_y_writer:  # these writers write (x, z, -y): undo that for Z up
        return v if up == "y" else z_up(v)
    return v if up == "z" else y_up(v)


def parcel_file(folders: Folders, wanted: ParcelIn, name: str) -> Path:
    """Where a parcel of what is in use now lies, once it is made."""
    layer = layer_of(folders, wanted.format)
    tag = hashlib.sha256(f"{WAY}|{layer}|{version_of(folders, layer, None).key}|{wanted.model_dump_json()}".encode())
    ending = ENDINGS.get(wanted.format, wanted.format)
    if wanted.format == "obj" or (wanted.levels and layer == source_layer(folders) and wanted.format not in SINGLE):
        ending = "zip"
    beside = (
        "-cloud"
        if wanted.format in OF_CLOUD
        else f"-{wanted.format}"
        if wanted.format in ("cameras", "game", "check")
        else ""
    )
    return folders.cache / f"parcel-{tag.hexdigest()[:16]}" / f"{name}{beside}.{ending}"


def have_parcel(session: Session, project: Project, folders: Folders, wanted: ParcelIn) -> Job | None:
    """Queue the making of a parcel; None when it is there."""
    assert project.id is not None
    if parcel_file(folders, wanted, file_name(project)).exists():
        return None
    params = wanted.model_dump() | {"name": file_name(project)}
    alive = col(Job.state).in_(["queued", "running"])
    going = session.exec(select(Job).where(Job.project_id == project.id, Job.kind == "parcel", alive)).all()
    same = next((j for j in going if j.params == params and not j.cancel), None)
    return same or add_job(session, project.id, "parcel", params)


def file_name(project: Project) -> str:
    """Name of a project's files: letters that every system takes."""
    return re.sub(r"[^A-Za-z0-9_-]+", "-", project.name).strip("-").lower()[:80] or "model"


def make_parcel(folders: Folders, params: dict[str, Any], reporter: Reporter) -> None:
    """Write a parcel, once for each version and convention."""
    name, wanted = str(params["name"]), ParcelIn.model_validate({k: v for k, v in params.items() if k != "name"})
    target = parcel_file(folders, wanted, name)
    folder = target.parent
    folder.mkdir(parents=True, exist_ok=True)
    trim_cache(folders)
    if wanted.format in (*OF_CLOUD, "cameras"):
        reporter.stage("dispatch", "Writing the file", 0, 1)
        return _write_beside(folders, wanted, target)
    source = folders.store.folder(version_of(folders, source_layer(folders), None))
    if wanted.format in SINGLE:
        return _write_single(source, wanted, target, name, reporter, to_scale(folders))
    steps = wanted.levels + 2

    def begun(level: int) -> None:
        reporter.stage(
            "dispatch", say("Making level {level}", level=level) if level else "Reading the model", level, steps
        )

    files: list[Path] = []
    for ending, mesh, image in levels_of(source, wanted.levels, begun):
        deep = deepest_texture(source) if wanted.format == "obj" and not ending else None
        files += _written(folder, name + ending, wanted, mesh, deep or image)
    reporter.stage("dispatch", "Writing the file", steps - 1, steps)
    if target in files:
        return
    with atomic_write(target) as out, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=4) as z:
        for file in files:
            z.write(file, file.name)
        if wanted.format == "obj" and (source / SEEN_MAP).exists():
            z.write(source / SEEN_MAP, f"{name}-{SEEN_MAP}")
    for file in files:
        file.unlink()


def _write_beside(folders: Folders, wanted: ParcelIn, target: Path) -> None:
    """Write the dense cloud or the cameras."""
    if wanted.format == "cameras":
        link_or_copy(_cameras_file(folders), target)
        return
    cloud, scale = load_cloud(folders.store.folder(version_of(folders, "points", None))), UNITS[wanted.unit]
    extra = {
        "views": cloud.views.astype(np.float32), "sigma": cloud.sigma * np.float32(scale), "filled": cloud.filled.astype(np.float32)
    }  # fmt: skip
    if wanted.format in ("las", "e57"):
        save_cloud(target, Cloud(cloud.points, cloud.colors, cloud.normals, cloud.views, cloud.sigma, cloud.filled))
        return
    points, normals = _oriented(cloud.points * scale, wanted.up, False), _oriented(cloud.normals, wanted.up, False)
    write_ply(target, PlyData(points, normals, cloud.colors, extra=extra))


def to_scale(folders: Folders) -> bool:
    """Whether lengths of the model are true ones."""
    return load_solution(folders.store.folder(version_of(folders, "cameras", None))).metric


def whole_model(source: Path) -> Model:
    """The model of a version of Texture or Finish, with its picture."""
    mesh = load_textured(source)
    picture = cv2.imdecode(np.frombuffer(texture_bytes(source), np.uint8), cv2.IMREAD_COLOR)
    return Model(mesh.vertices, mesh.normals, mesh.faces, mesh.uv, picture)


def _write_single(source: Path, wanted: ParcelIn, target: Path, name: str, reporter: Reporter, true: bool) -> None:
    """Write a kind that is one file made of the whole model."""
    reporter.stage("dispatch", "Reading the model", 0, 2)
    model = whole_model(source)
    reporter.stage("dispatch", "Writing the file", 1, 2)

    def check() -> None:
        reporter.stage("dispatch", "Writing the file", 1, 2)

    if wanted.format == "view":
        write_viewer(target, model, name, true)
    elif wanted.format == "film":
        film = Film()

        def pictures() -> Iterator[NDArray[np.uint8]]:
            for k, picture in enumerate(frames(Studio(model), film)):
                reporter.stage("dispatch", "Taking pictures", k, film.count)
                yield picture

        write_film(target, pictures(), film.rate)
    elif wanted.format == "check":
        found = print_check(*welded(load_textured(source)), told=check)
        write_json(target, found.record() | {"findings": [as_data(s) for s in found.findings]})
    elif wanted.format in ("game", "3mf"):
        save_for(model, DESTINATIONS["game" if wanted.format == "game" else "print"], target, check)
    else:
        save_model(target, model)


def _written(folder: Path, name: str, wanted: ParcelIn, mesh: TexturedMesh, image: bytes) -> list[Path]:
    """Write one level of the model; its files."""
    scale = UNITS[wanted.unit]
    file = folder / f"{name}.{wanted.format}"
    y_writer = wanted.format in ("glb", "obj")
    if y_writer:
        v, n = (_oriented(x, wanted.up, y_writer) for x in (mesh.vertices * scale, mesh.normals))
        if wanted.format == "glb":
            write_glb(file, v, n, mesh.uv, mesh.faces, image, name=name, tiles=mesh.tiles)
            return [file]
        return write_obj(file, v, n, mesh.uv, mesh.faces, image, tiles=mesh.tiles)
    plain_v, plain_f = welded(mesh)
    plain_v = _oriented(plain_v * scale, wanted.up, False)
    if wanted.format == "ply":
        with Image.open(io.BytesIO(image)) as opened:
            colors = vertex_colors(mesh, np.asarray(opened.convert("RGB")))
        write_ply(file, PlyData(plain_v, vertex_normals(plain_v, plain_f).astype(np.float32), colors, plain_f))
    else:
        write_stl(file, plain_v, plain_f)
    return [file]
