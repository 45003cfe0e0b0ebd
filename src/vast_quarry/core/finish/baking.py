"""Colours carried from one textured model to another mesh that lies on it: to simpler levels, and to what edits made of a model.

Each texel takes the colour of the place of the old model that lies nearest to it and faces the same way.

References
----------
Cignoni, P., Montani, C., Rocchini, C., Scopigno, R. (1998). A general method for preserving attribute values on simplified meshes.
IEEE Visualization.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.finish.edits import TexturedMesh
from vast_quarry.core.raycast import MISS, RayScene
from vast_quarry.core.surface.mesh import face_areas, face_normals, within_faces
from vast_quarry.core.texture.packing import Atlas
from vast_quarry.core.texture.texels import band_of_texels, looked_up

Array = NDArray[np.float64]
#: texels that are coloured at a time
BAND = 1 << 20
#: how far (edges of the new mesh) a place may lie off the old model and still be of its surface; how far above and below it is sought
#: where the nearest place faces another way
NEAR, REACH = 0.5, 4.0


class Coloured:
    """A textured model, asked for the colours of places near it."""

    def __init__(self, mesh: TexturedMesh, picture: NDArray) -> None:
        self.mesh, self.picture = mesh, picture
        self.facing = face_normals(mesh.vertices, mesh.faces)
        self.scene = RayScene()
        self.scene.add(mesh.vertices, mesh.faces)

    def colors(self, points: NDArray[np.float32], normals: NDArray[np.float32], reach: float) -> NDArray:
        """Colours (K, 3) at points (K, 3) with normals (K, 3); ``reach`` (world units) is how far above and below them a place is
        sought that faces the same way, where the nearest does not."""
        if not len(points):
            return np.zeros((0, 3), self.picture.dtype)
        face, at = self.scene.nearest(points)
        turned = np.flatnonzero((self.facing[face] * normals).sum(1) <= 0)
        if len(turned):
            # on a thin part the other side may be nearer: straight out of the level there is its own
            n = normals[turned] / np.maximum(np.linalg.norm(normals[turned], axis=1, keepdims=True), 1e-9)
            hit = self.scene.cast(np.concatenate([points[turned] + reach * n, -n], 1).astype(np.float32))
            own = (hit["face"] != MISS) & (hit["t"] < 2 * reach)
            own[own] = (self.facing[hit["face"][own]] * n[own]).sum(1) > 0
            face[turned[own]], at[turned[own]] = hit["face"][own], hit["uv"][own]
        return looked_up(self.picture, within_faces(self.mesh.uv, self.mesh.faces[face], at))


def baked(
    atlas: Atlas, vertices: Array, normals: Array, old: Coloured, reach: float, check: Callable[[], None] = lambda: None
) -> tuple[NDArray, NDArray[np.bool_]]:
    """The picture (S, S, 3) of an atlas in the colours of another model, and which texels (S, S) charts cover.

    ``vertices`` and ``normals`` (V, 3) are those that wedges of the atlas belong to; ``check`` may raise to cancel.
    """
    image = np.zeros((atlas.size, atlas.size, 3), old.picture.dtype)
    covered = np.zeros((atlas.size, atlas.size), bool)
    corner = atlas.wedge_vertex[atlas.faces]
    rows = max(1, BAND // atlas.size)
    for first in range(0, atlas.size, rows):
        check()
        t = band_of_texels(atlas, first, min(first + rows, atlas.size))
        image[first + t.row, t.column] = old.colors(t.mix(vertices, corner), t.mix(normals, corner), reach)
        covered[first + t.row, t.column] = True
    return image, covered


def carried(mesh: TexturedMesh, picture: NDArray, old: Coloured, check: Callable[[], None] = lambda: None) -> float:
    """Give the texture of an edited model the colours it had before the edit, in place; what share of its texels that is.

    What lies off the old surface, as caps of cuts do, keeps the colour it has.

    Parameters
    ----------
    mesh : TexturedMesh
        With wedges and UV of its own.
    picture : (S, S, 3) uint8 or uint16
        Its texture; of the kind that ``old`` has.
    old : Coloured
        The model before.
    """
    side = len(picture)
    atlas = Atlas(mesh.uv * side - 0.5, np.arange(len(mesh.vertices)), mesh.faces, side, 1.0)
    edge = float(np.sqrt(np.median(face_areas(mesh.vertices, mesh.faces)) * 2))
    rows, kept, all_of_them = max(1, BAND // side), 0, 0
    for first in range(0, side, rows):
        check()
        t = band_of_texels(atlas, first, min(first + rows, side))
        points, normals = t.mix(mesh.vertices, mesh.faces), t.mix(mesh.normals, mesh.faces)
        near = old.scene.distance(points) < NEAR * edge if len(points) else np.zeros(0, bool)
        picture[first + t.row[near], t.column[near]] = old.colors(points[near], normals[near], REACH * edge)
        kept, all_of_them = kept + int(near.sum()), all_of_them + len(near)
    return kept / max(all_of_them, 1)
