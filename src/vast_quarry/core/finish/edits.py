"""A textured mesh, and what is done to it: parts of it, cut, fewer triangles. :mod:`.operations` does it by records."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.pose import Similarity
from vast_quarry.core.surface.cut import cut_with
from vast_quarry.core.surface.decimate import decimate
from vast_quarry.core.surface.holes import close_holes
from vast_quarry.core.surface.mesh import compacted, components, joined, same_places, vertex_normals
from vast_quarry.core.texture.texels import looked_up

Array = NDArray[np.float64]
Faces = NDArray[np.int64]


@dataclass(frozen=True)
class TexturedMesh:
    """Wedges (W, 3) with normals (W, 3) and UV (W, 2), faces (M, 3); ``retexture`` when UV no longer fit the texture; ``tiles``: the
    atlas is to be cut into so many pictures along each side, which no face crosses; ``placed``: where edits moved the whole of
    it, None where they did not."""

    vertices: Array
    normals: Array
    uv: Array
    faces: Faces
    retexture: bool = False
    tiles: int = 1
    placed: Similarity | None = None

    def moved(self, by: Similarity) -> TexturedMesh:
        """Turned, scaled and shifted as a whole."""
        placed = by if self.placed is None else by.after(self.placed)
        return replace(self, vertices=by.points(self.vertices), normals=by.directions(self.normals), placed=placed)

    def back(self) -> TexturedMesh:
        """Where it was before it was moved as a whole: where photos and the model before see it."""
        return self if self.placed is None else replace(self.moved(self.placed.inverse()), placed=None)

    def part(self, keep: NDArray[np.bool_]) -> TexturedMesh:
        """Only some faces (M,) bool."""
        if not keep.any():
            raise PlainError("Nothing would be left of the model.", "Undo, and select less.")
        v, f, kept = compacted(self.vertices, self.faces[keep])
        return replace(self, vertices=v, normals=self.normals[kept], uv=self.uv[kept], faces=f)


def welded(mesh: TexturedMesh) -> tuple[Array, Faces]:
    """Vertices that lie on each other joined: the surface without the seams of its texture."""
    return joined(mesh.vertices, mesh.faces)


def vertex_colors(mesh: TexturedMesh, picture: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Colour of each vertex of the welded surface (V, 3), out of the texture (H, W, 3): the mean over its wedges."""
    first, which = same_places(mesh.vertices)
    out = np.zeros((len(first), 3))
    np.add.at(out, which, looked_up(picture, mesh.uv).astype(float))
    return np.asarray(out / np.bincount(which, minlength=len(first))[:, None] + 0.5, np.uint8)


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
    return untextured(mesh, plain_v, plain_f)


def untextured(mesh: TexturedMesh, vertices: Array, faces: Faces) -> TexturedMesh:
    """Another surface in the place of a mesh, whose texture has to be made anew."""
    uv = np.zeros((len(vertices), 2))
    normals = vertex_normals(vertices, faces)
    return replace(mesh, vertices=vertices, normals=normals, uv=uv, faces=faces, retexture=True)


def keep_bodies(mesh: TexturedMesh, count: int = 1) -> TexturedMesh:
    """Only so many connected bodies, those with most faces."""
    _, f = welded(mesh)
    return mesh.part(components(f) < max(count, 1))


def fewer_faces(mesh: TexturedMesh, count: int) -> TexturedMesh:
    """Decimate to about ``count`` faces; the texture has to be made anew."""
    if count >= len(mesh.faces):
        return mesh
    return untextured(mesh, *decimate(*welded(mesh), count))
