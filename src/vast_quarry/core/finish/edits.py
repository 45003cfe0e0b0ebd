"""Edits of a textured mesh: delete what an outline on the screen holds, cut, keep the main body, fewer triangles.

An edit is a small record that can be replayed: the same code serves the open draft and the kept version.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.box import KeepBox
from vast_quarry.core.errors import PlainError
from vast_quarry.core.screen import in_outline
from vast_quarry.core.surface.cut import cut_with
from vast_quarry.core.surface.decimate import decimate
from vast_quarry.core.surface.holes import close_holes
from vast_quarry.core.surface.mesh import compacted, components, vertex_normals
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]


@dataclass(frozen=True)
class TexturedMesh:
    """Wedges (W, 3) with normals (W, 3) and UV (W, 2), faces (M, 3); ``retexture`` when UV no longer fit the texture; ``tiles``: the
    atlas is to be cut into so many pictures along each side, which no face crosses."""

    vertices: Array
    normals: Array
    uv: Array
    faces: Faces
    retexture: bool = False
    tiles: int = 1

    def part(self, keep: NDArray[np.bool_]) -> TexturedMesh:
        """Only some faces (M,) bool."""
        if not keep.any():
            raise PlainError("Nothing would be left of the model.", "Undo, and select less.")
        v, f, kept = compacted(self.vertices, self.faces[keep])
        return replace(self, vertices=v, normals=self.normals[kept], uv=self.uv[kept], faces=f)


def welded(mesh: TexturedMesh) -> tuple[Array, Faces]:
    """Vertices that lie on each other joined: the surface without the seams of its texture."""
    first, which = _joined(mesh)
    return mesh.vertices[first], which[mesh.faces].astype(np.int64)


def _joined(mesh: TexturedMesh) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """One wedge of each vertex (V,), and the vertex of each wedge (W,)."""
    size = float(np.ptp(mesh.vertices, axis=0).max()) or 1.0
    key = np.round(mesh.vertices / (size * 1e-7)).astype(np.int64)
    _, first, inverse = np.unique(key, axis=0, return_index=True, return_inverse=True)
    return first, inverse.reshape(-1)


def vertex_colors(mesh: TexturedMesh, picture: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Colour of each vertex of the welded surface (V, 3), out of the texture (H, W, 3): the mean over its wedges."""
    first, which = _joined(mesh)
    at = np.asarray(mesh.uv * picture.shape[1::-1] - 0.5, np.float32)
    out = np.zeros((len(first), 3))
    # a picture is looked up in rows of no more than 32,767
    for begin in range(0, len(at), 30_000):
        part = at[begin : begin + 30_000, None]
        taken = cv2.remap(picture, part[..., 0], part[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        np.add.at(out, which[begin : begin + 30_000], taken[:, 0].astype(float))
    return np.asarray(out / np.bincount(which, minlength=len(first))[:, None] + 0.5, np.uint8)


def delete_in_outline(mesh: TexturedMesh, outline: Array, matrix: Array, invert: bool = False) -> TexturedMesh:
    """Delete faces whose middle lies in an outline on the screen.

    Parameters
    ----------
    outline : (K, 2)
        In normalised device coordinates, -1 to 1, y up.
    matrix : (4, 4)
        World to clip space, row by row.
    """
    hit = in_outline(mesh.vertices[mesh.faces].mean(1), outline, matrix)
    return mesh.part(hit if invert else ~hit)


def cut_at_planes(mesh: TexturedMesh, planes: list[tuple[Array, Array]], closed: bool) -> TexturedMesh:
    """Cut at planes (point, kept side); with ``closed`` the cuts are filled."""
    v, f = mesh.vertices, mesh.faces
    attributes = np.concatenate([mesh.normals, mesh.uv], 1)
    for origin, normal in planes:
        v, f, attributes = cut_with(v, f, attributes, origin, normal)
    if not len(f):
        raise PlainError("Nothing would be left of the model.", "Undo, and cut elsewhere.")
    cut = replace(mesh, vertices=v, normals=attributes[:, :3], uv=attributes[:, 3:], faces=f)
    if not closed:
        return cut
    plain_v, plain_f = close_holes(*welded(cut))
    return _untextured(plain_v, plain_f)


def _untextured(vertices: Array, faces: Faces) -> TexturedMesh:
    return TexturedMesh(vertices, vertex_normals(vertices, faces), np.zeros((len(vertices), 2)), faces, retexture=True)


def keep_main_body(mesh: TexturedMesh) -> TexturedMesh:
    """Only the connected body with most faces."""
    _, f = welded(mesh)
    return mesh.part(components(f) == 0)


def fewer_faces(mesh: TexturedMesh, count: int) -> TexturedMesh:
    """Decimate to about ``count`` faces; the texture has to be made anew."""
    if count >= len(mesh.faces):
        return mesh
    return _untextured(*decimate(*welded(mesh), count))


def apply_edit(mesh: TexturedMesh, edit: dict[str, Any], box: KeepBox) -> TexturedMesh:
    """One edit: ``kind`` is delete, cut, main-body or decimate.

    Raises
    ------
    PlainError
        When the edit is unknown, incomplete or would leave nothing.
    """
    try:
        kind = edit["kind"]
        if kind == "delete":
            outline = np.asarray(edit["outline"], float).reshape(-1, 2)
            matrix = np.asarray(edit["matrix"], float).reshape(4, 4)
            return delete_in_outline(mesh, outline, matrix, bool(edit.get("invert", False)))
        if kind == "cut":
            planes = box.planes() if edit.get("at", "box") == "box" else [(np.zeros(3), np.array([0.0, 0.0, 1.0]))]
            return cut_at_planes(mesh, planes, bool(edit.get("closed", False)))
        if kind == "main-body":
            return keep_main_body(mesh)
        if kind == "decimate":
            return fewer_faces(mesh, max(4, int(edit["faces"])))
    except (KeyError, TypeError, ValueError) as error:
        raise PlainError("The edit is incomplete.", "Try it again.") from error
    raise PlainError(say('There is no edit called "{kind}".', kind=kind))
