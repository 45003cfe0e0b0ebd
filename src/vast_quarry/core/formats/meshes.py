"""Reading meshes of any common kind, by Open3D: PLY, STL, OBJ, OFF, GLB."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say

KINDS = (".ply", ".stl", ".obj", ".off", ".glb", ".gltf")
#: larger files are refused before they are read
MOST_BYTES = 2_000_000_000


def size_of(path: Path, kinds: Sequence[str]) -> int:
    """Bytes of a file of one of some kinds (endings with their dot).

    Raises
    ------
    PlainError
        When it is of another kind, or cannot be read.
    """
    if path.suffix.lower() not in kinds:
        raise PlainError(
            say("{name} is no mesh that can be read.", name=path.name),
            say("Use one of {list}.", list=", ".join(k[1:] for k in kinds)),
        )
    try:
        return path.stat().st_size
    except OSError as error:
        raise PlainError(
            say("{path} cannot be read ({why}).", path=path, why=error.strerror), "Check the path."
        ) from error


def read_mesh(path: Path) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Vertices (N, 3) and triangles (M, 3) of a mesh file; equal corners are one vertex.

    Raises
    ------
    PlainError
        When it cannot be read or holds no faces.
    """
    if size_of(path, KINDS) > MOST_BYTES:
        raise PlainError(
            say("{name} is larger than 2 GB.", name=path.name), "Make it lighter first: a stand-in needs little detail."
        )
    import open3d

    with open3d.utility.VerbosityContextManager(open3d.utility.VerbosityLevel.Error):
        mesh = open3d.io.read_triangle_mesh(path)
    mesh.remove_duplicated_vertices()
    vertices, faces = np.asarray(mesh.vertices, float), np.asarray(mesh.triangles, np.int64)
    if len(faces) == 0 or not np.isfinite(vertices).all() or faces.min() < 0 or faces.max() >= len(vertices):
        raise PlainError(say("{name} holds no usable faces.", name=path.name), "Export it as triangles and try again.")
    return vertices, faces
