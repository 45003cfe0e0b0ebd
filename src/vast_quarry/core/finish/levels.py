"""Simpler levels of a textured model: fewer triangles on a smaller atlas of their own, with the colours carried over.

Each texel of a level takes the colour of the place of the full model that lies nearest to it and faces the same way; the full atlas
is made smaller first, so that its texels are about as large as the level's.

References
----------
Cignoni, P., Montani, C., Rocchini, C., Scopigno, R. (1998). A general method for preserving attribute values on simplified meshes.
IEEE Visualization.
"""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.finish.edits import TexturedMesh, welded
from vast_quarry.core.raycast import MISS, RayScene
from vast_quarry.core.surface.decimate import decimate
from vast_quarry.core.surface.mesh import face_areas, face_normals, vertex_normals
from vast_quarry.core.texture.charts import make_charts
from vast_quarry.core.texture.packing import unwrap
from vast_quarry.core.texture.texels import band_of_texels, fill_between

Bytes = NDArray[np.uint8]
Array = NDArray[np.float64]
#: a level has so many times fewer triangles than the one before, on an atlas with half the side, and no fewer than these
FEWER, FEWEST_FACES, SMALLEST_SIDE = 4, 200, 256
#: texels that are coloured at a time
BAND = 1 << 20
#: how far above and below a level the full model is sought where the nearest place faces another way, in edges of the level
REACH = 4.0


def size_of_level(faces: int, side: int, level: int) -> tuple[int, int]:
    """Triangles and texels a side of a level of a model with so many."""
    return max(min(faces, FEWEST_FACES), faces // FEWER**level), max(min(side, SMALLEST_SIDE), side >> level)


def simpler(
    mesh: TexturedMesh, picture: Bytes, level: int, check: Callable[[], None] = lambda: None
) -> tuple[TexturedMesh, Bytes]:
    """A level of a model.

    Parameters
    ----------
    mesh : TexturedMesh
    picture : (S, S, 3) uint8
        Its atlas.
    level : int
        1 is the first that is simpler.
    check : callable
        Called between parts of the work; may raise to cancel.

    Returns
    -------
    mesh, picture
        With wedges, UV and an atlas of their own.
    """
    count, side = size_of_level(len(mesh.faces), len(picture), level)
    v, f = decimate(*welded(mesh), count)
    check()
    wanted = side * float(np.sqrt(0.7 / max(float(face_areas(v, f).sum()), 1e-300)))
    atlas = unwrap(v, f, make_charts(v, f), side, wanted, largest=side)
    normals = vertex_normals(v, f)
    full = _Full(mesh, cv2.resize(picture, (side, side), interpolation=cv2.INTER_AREA))
    edge = float(np.sqrt(np.median(face_areas(v, f)) * 2))
    image = np.zeros((atlas.size, atlas.size, 3), np.uint8)
    covered = np.zeros((atlas.size, atlas.size), bool)
    corner = atlas.wedge_vertex[atlas.faces]
    rows = max(1, BAND // atlas.size)
    for first in range(0, atlas.size, rows):
        check()
        t = band_of_texels(atlas, first, min(first + rows, atlas.size))
        image[first + t.row, t.column] = full.colors(t.mix(v, corner), t.mix(normals, corner), REACH * edge)
        covered[first + t.row, t.column] = True
    fill_between(image, covered)
    wedge = atlas.wedge_vertex
    return TexturedMesh(v[wedge], normals[wedge], (atlas.uv + 0.5) / atlas.size, atlas.faces), image


class _Full:
    """The full model, asked for the colours of places near it."""

    def __init__(self, mesh: TexturedMesh, picture: Bytes) -> None:
        self.mesh, self.picture = mesh, picture
        self.facing = face_normals(mesh.vertices, mesh.faces)
        self.scene = RayScene()
        self.scene.add(mesh.vertices, mesh.faces)

    def colors(self, points: NDArray[np.float32], normals: NDArray[np.float32], reach: float) -> Bytes:
        """Colours (K, 3) at points (K, 3) with normals (K, 3); ``reach`` in world units."""
        if not len(points):
            return np.zeros((0, 3), np.uint8)
        face, at = self.scene.nearest(points)
        turned = np.flatnonzero((self.facing[face] * normals).sum(1) <= 0)
        if len(turned):
            # on a thin part the other side may be nearer: straight out of the level there is its own
            n = normals[turned] / np.maximum(np.linalg.norm(normals[turned], axis=1, keepdims=True), 1e-9)
            hit = self.scene.cast(np.concatenate([points[turned] + reach * n, -n], 1).astype(np.float32))
            own = (hit["face"] != MISS) & (hit["t"] < 2 * reach)
            own[own] = (self.facing[hit["face"][own]] * n[own]).sum(1) > 0
            face[turned[own]], at[turned[own]] = hit["face"][own], hit["uv"][own]
        corner = self.mesh.faces[face]
        b, c = at[:, :1], at[:, 1:]
        uv = self.mesh.uv
        place = (1 - b - c) * uv[corner[:, 0]] + b * uv[corner[:, 1]] + c * uv[corner[:, 2]]
        place = (place * len(self.picture) - 0.5).astype(np.float32)
        # rows of a picture of places, for what maps pictures takes no longer side
        wide = 4096
        padded = np.zeros((-(-len(place) // wide) * wide, 2), np.float32)
        padded[: len(place)] = place
        x, y = padded.reshape(-1, wide, 2).transpose(2, 0, 1)
        found = cv2.remap(self.picture, x.copy(), y.copy(), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        return np.asarray(found.reshape(-1, 3)[: len(place)], np.uint8)
