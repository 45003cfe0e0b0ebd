"""Fewer triangles with the shape kept: quadric edge collapse (fast-simplification).

References
----------
Garland, M., Heckbert, P. (1997). Surface simplification using quadric error metrics. SIGGRAPH.
"""

from __future__ import annotations

import fast_simplification
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.surface.mesh import compacted, edge_faces, face_normals, without_degenerate

Array = NDArray[np.float64]
Faces = NDArray[np.int64]


def decimate(vertices: Array, faces: Faces, target: int) -> tuple[Array, Faces]:
    """Reduce to about ``target`` faces; unchanged when there are no more than that."""
    if len(faces) <= target or not len(faces):
        return vertices, faces
    middle, size = vertices.mean(0), float(np.ptp(vertices, axis=0).max())
    # the collapse works in single precision: bring the mesh to the origin and to unit size first
    small, corners = ((vertices - middle) / size).astype(np.float32), faces.astype(np.int32)
    del vertices, faces
    v, f = fast_simplification.simplify(small, corners, target_count=int(target), agg=5.0)
    v, f = np.asarray(v, float) * size + middle, np.asarray(f, np.int64)
    v, f, _ = compacted(v, without_degenerate(v, f))
    return v, without_doubles(v, f)


def without_doubles(vertices: Array, faces: Faces) -> Faces:
    """Faces with the same three corners only once, and no edge with more than two faces."""
    key = np.sort(faces, axis=1)
    _, first = np.unique(key, axis=0, return_index=True)
    faces = faces[np.sort(first)]
    for _ in range(20):  # fewer faces are crowded each time
        edges = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
        code = edges[:, 0] * (int(faces.max(initial=0)) + 1) + edges[:, 1]
        _, inverse, times = np.unique(code, return_inverse=True, return_counts=True)
        crowded = (times[inverse] > 2).reshape(3, -1).any(0)
        if not crowded.any():
            break
        # of the faces on a crowded edge, those that turn furthest from their neighbours go
        pairs, _ = edge_faces(faces)
        n = face_normals(vertices, faces)
        turn = np.zeros(len(faces))
        angle = 1 - (n[pairs[:, 0]] * n[pairs[:, 1]]).sum(1)
        np.maximum.at(turn, pairs[:, 0], angle)
        np.maximum.at(turn, pairs[:, 1], angle)
        worst = crowded & (turn >= np.median(turn[crowded]))
        faces = faces[~worst]
    return faces
