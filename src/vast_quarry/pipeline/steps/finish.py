"""Finish: the kept draft of edits, replayed on the textured model."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any, ClassVar

import cv2
import numpy as np
from PIL import Image
from pydantic import Field, ValidationError, field_serializer
from scipy.spatial import cKDTree

from vast_quarry.core.finish.baking import Coloured, carried
from vast_quarry.core.finish.edits import TexturedMesh, vertex_colors, welded
from vast_quarry.core.finish.operations import apply_edit
from vast_quarry.core.formats.atomic import atomic_write, link_or_copy, write_arrays
from vast_quarry.core.formats.pictures import as_jpeg, colours_as_png
from vast_quarry.core.pose import Similarity
from vast_quarry.core.surface.mesh import edge_faces, vertex_normals
from vast_quarry.pipeline.atlas_files import DEEP_TEXTURE, SEEN_MAP, SOURCE_MAP, TEXTURE, texture_bytes
from vast_quarry.pipeline.edits import Edit
from vast_quarry.pipeline.figures import FinishFigures
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.step import Context, StepSettings
from vast_quarry.pipeline.steps.surface import load_foot
from vast_quarry.pipeline.steps.texture import TextureSettings, texture_mesh
from vast_quarry.pipeline.store import NOTES, Version


class FinishSettings(StepSettings):
    """What was done by hand."""

    edits: tuple[Edit, ...] = Field((), description="Edits, in order")

    @field_serializer("edits")
    def _as_given(self, edits: tuple[Edit, ...]) -> list[dict[str, Any]]:
        return [e.record() for e in edits]


def load_textured(folder: Path) -> TexturedMesh:
    """The model of a version of Texture or Finish."""
    with np.load(folder / "model.npz") as m:
        return TexturedMesh(
            m["vertices"].astype(float), m["normals"].astype(float), m["uv"].astype(float), m["faces"].astype(np.int64),
            tiles=int(m["tiles"]) if "tiles" in m.files else 1,
        )  # fmt: skip


def coloured_with(folder: Path) -> TextureSettings:
    """The settings that a version of Texture was made with: what is coloured anew after an edit looks alike. No photo is kept back."""
    made = Version.model_validate_json((folder / NOTES).read_bytes()).settings
    try:
        return TextureSettings.model_validate({**made, "kept_back": 0})
    except ValidationError:  # of another version of the program
        return TextureSettings()


def carry_colors(context: Context, before: TexturedMesh) -> float:
    """Give the texture in ``context.folder`` the colours of the model before it was edited; what share of its texels that is.

    What was mended there would be lost if all were coloured from the photos again: these only colour what is new.
    """
    source, share = context.parents["texture"], 0.0
    mesh = load_textured(context.folder)
    quality = coloured_with(source).quality
    for name in (TEXTURE, DEEP_TEXTURE):
        if not ((source / name).exists() and (context.folder / name).exists()):
            continue
        picture, old = (cv2.imread(str(f / name), cv2.IMREAD_UNCHANGED) for f in (context.folder, source))
        assert picture is not None
        assert old is not None
        context.stage("Carrying colours over", 0, 1)
        share = carried(mesh, picture, Coloured(before, old), context.check)
        with atomic_write(context.folder / name) as out:
            out.write(as_jpeg(picture, quality) if name == TEXTURE else colours_as_png(picture))
    with np.load(context.folder / "model.npz") as m:
        arrays = dict(m)
    picture = cv2.imread(str(context.folder / TEXTURE))
    assert picture is not None
    # vertices of the mesh are those that its wedges lie on
    near = cKDTree(mesh.vertices).query(arrays["mesh_vertices"])[1]
    at = np.clip((mesh.uv[near] * len(picture)).astype(int), 0, len(picture) - 1)
    arrays["mesh_colors"] = np.ascontiguousarray(picture[at[:, 1], at[:, 0], ::-1])
    write_arrays(context.folder / "model.npz", **arrays)
    return share


def _put(folder: Path, placed: Similarity) -> None:
    """Move a textured model to where edits placed it."""
    with np.load(folder / "model.npz") as m:
        arrays = dict(m)
    for name in ("vertices", "mesh_vertices"):
        arrays[name] = placed.points(arrays[name]).astype(arrays[name].dtype)
    for name in ("normals", "mesh_normals"):
        arrays[name] = placed.directions(arrays[name]).astype(arrays[name].dtype)
    write_arrays(folder / "model.npz", **arrays)


class FinishStep:
    """Replays edits."""

    layer: ClassVar[str] = "finish"
    title: ClassVar[str] = "Finish"
    parents: ClassVar[tuple[str, ...]] = ("photos", "masks", "cameras", "texture")
    settings_model: ClassVar[type[StepSettings]] = FinishSettings

    def run(self, context: Context) -> FinishFigures:
        """Write ``model.npz`` and ``texture.jpg``."""
        settings: FinishSettings = context.settings
        solution = load_solution(context.parents["cameras"])
        mesh = edited = load_textured(context.parents["texture"])
        for n, edit in enumerate(settings.edits):
            context.stage("Editing", n, len(settings.edits))
            edited = apply_edit(edited, edit.model_dump(), solution.box)
        before, mesh = mesh, edited
        # photos, and the model before, see it where it was
        plain_v, plain_f = welded(mesh.back() if mesh.retexture else mesh)
        figures: FinishFigures = {"triangles": len(mesh.faces), "edits": len(settings.edits)}
        if mesh.retexture:
            foot = load_foot(context.parents["texture"] / "model.npz")
            figures |= texture_mesh(
                context, coloured_with(context.parents["texture"]), solution, plain_v, plain_f, foot
            )
            figures["carried_percent"] = round(100 * carry_colors(context, before), 1)
            if mesh.placed is not None:
                _put(context.folder, mesh.placed)
        else:
            with atomic_write(context.folder / "texture.jpg") as out:
                out.write(texture_bytes(context.parents["texture"]))
            for name in (SEEN_MAP, SOURCE_MAP, DEEP_TEXTURE):
                if (context.parents["texture"] / name).exists():
                    link_or_copy(context.parents["texture"] / name, context.folder / name)
            with Image.open(io.BytesIO(texture_bytes(context.parents["texture"]))) as picture:
                colors = vertex_colors(mesh, np.asarray(picture.convert("RGB")))
            write_arrays(
                context.folder / "model.npz", vertices=mesh.vertices, normals=mesh.normals, uv=mesh.uv, faces=mesh.faces,
                mesh_vertices=plain_v, mesh_faces=plain_f, mesh_normals=vertex_normals(plain_v, plain_f),
                mesh_colors=colors, tiles=mesh.tiles,
            )  # fmt: skip
        pairs, _ = edge_faces(plain_f)
        figures["open_edges"] = int(3 * len(plain_f) - 2 * len(pairs))
        return figures
