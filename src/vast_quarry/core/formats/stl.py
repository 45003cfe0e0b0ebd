"""STL, binary (3D Systems, 1989): triangles without unit or colour."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.surface.mesh import face_normals


def write_stl(path: Path, vertices: NDArray, faces: NDArray) -> None:
    """Write triangles, vertices (N, 3), faces (M, 3)."""
    rows = np.zeros(len(faces), np.dtype([("n", "<f4", 3), ("v", "<f4", (3, 3)), ("a", "<u2")]))
    rows["n"] = face_normals(vertices, faces)
    rows["v"] = vertices[faces]
    with atomic_write(path) as out:
        out.write(b"Vast Quarry".ljust(80) + np.uint32(len(faces)).tobytes() + rows.tobytes())
