"""Curvature of a triangle mesh at its vertices.

References
----------
Meyer, M., Desbrun, M., Schroder, P., Barr, A. H. (2003). Discrete differential-geometry operators for triangulated 2-manifolds.
Visualization and Mathematics III.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.surface.mesh import face_areas, face_cross, open_edges, vertex_normals

Array = NDArray[np.float64]
Faces = NDArray[np.int64]


def _cotangents(vertices: Array, faces: Faces) -> Array:
    """Cotangents (M, 3) of the angles at the corners of faces."""
    twice = np.maximum(np.linalg.norm(face_cross(vertices, faces), axis=1), 1e-300)
    out = np.empty((len(faces), 3))
    for k in range(3):
        p, q, r = (vertices[faces[:, (k + i) % 3]] for i in range(3))
        out[:, k] = ((q - p) * (r - p)).sum(1) / twice
    return out


def mean_curvature(vertices: Array, faces: Faces) -> Array:
    """Mean curvature (N,) in 1 / world unit: positive where the surface bulges (1/r on a sphere), 0 at borders."""
    cot = np.clip(_cotangents(vertices, faces), -20, 20)
    total = np.zeros_like(vertices)
    for k in range(3):
        # the angle at corner k weighs the edge across from it
        i, j = faces[:, (k + 1) % 3], faces[:, (k + 2) % 3]
        pull = cot[:, k : k + 1] * (vertices[i] - vertices[j])
        for axis in range(3):
            total[:, axis] += np.bincount(i, pull[:, axis], len(vertices)) - np.bincount(
                j, pull[:, axis], len(vertices)
            )
    area = np.bincount(faces.ravel(), np.repeat(face_areas(vertices, faces) / 3, 3), len(vertices))
    bend = (total * vertex_normals(vertices, faces)).sum(1) / np.maximum(4 * area, 1e-300)
    bend[np.unique(open_edges(faces))] = 0
    bend[area <= 0] = 0
    return np.asarray(bend)


def largest_curvature(vertices: Array, faces: Faces) -> Array:
    """The larger of both principal curvatures (N,), without sign; from mean and Gaussian curvature, smoothed once."""
    mean = mean_curvature(vertices, faces)
    angle = np.zeros((len(faces), 3))
    for k in range(3):
        p, q, r = (vertices[faces[:, (k + i) % 3]] for i in range(3))
        angle[:, k] = np.arctan2(np.linalg.norm(np.cross(q - p, r - p), axis=1), ((q - p) * (r - p)).sum(1))
    area = np.bincount(faces.ravel(), np.repeat(face_areas(vertices, faces) / 3, 3), len(vertices))
    gauss = (2 * np.pi - np.bincount(faces.ravel(), angle.ravel(), len(vertices))) / np.maximum(area, 1e-300)
    gauss[np.unique(open_edges(faces))] = 0
    both = np.abs(mean) + np.sqrt(np.maximum(mean**2 - gauss, 0))
    # a single corner says little: with its neighbours
    total = np.bincount(faces.ravel(), np.repeat(both[faces].mean(1), 3), len(vertices))
    return np.asarray(total / np.maximum(np.bincount(faces.ravel(), minlength=len(vertices)), 1))
