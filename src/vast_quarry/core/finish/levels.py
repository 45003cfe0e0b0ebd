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

from vast_quarry.core.finish.baking import Coloured, baked
from vast_quarry.core.finish.edits import TexturedMesh, welded
from vast_quarry.core.surface.decimate import decimate
from vast_quarry.core.surface.mesh import face_areas, vertex_normals
from vast_quarry.core.texture.charts import make_charts
from vast_quarry.core.texture.packing import unwrap
from vast_quarry.core.texture.texels import fill_between

Bytes = NDArray[np.uint8]
Array = NDArray[np.float64]
#: a level has so many times fewer triangles than the one before, on an atlas with half the side, and no fewer than these
FEWER, FEWEST_FACES, SMALLEST_SIDE = 4, 200, 256
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
    return recoloured(v, f, mesh, cv2.resize(picture, (side, side), interpolation=cv2.INTER_AREA), check)


def recoloured(
    v: Array, f: NDArray[np.int64], mesh: TexturedMesh, picture: Bytes, check: Callable[[], None] = lambda: None
) -> tuple[TexturedMesh, Bytes]:
    """A mesh (V, 3), (M, 3) that lies on a textured one, on an atlas of its own as large as the ``picture`` of that, in its colours."""
    side = len(picture)
    wanted = side * float(np.sqrt(0.7 / max(float(face_areas(v, f).sum()), 1e-300)))
    atlas = unwrap(v, f, make_charts(v, f), side, wanted, largest=side)
    normals = vertex_normals(v, f)
    full = Coloured(mesh, picture)
    edge = float(np.sqrt(np.median(face_areas(v, f)) * 2))
    image, covered = baked(atlas, v, normals, full, REACH * edge, check)
    fill_between(image, covered)
    wedge = atlas.wedge_vertex
    return TexturedMesh(v[wedge], normals[wedge], (atlas.uv + 0.5) / atlas.size, atlas.faces), image
