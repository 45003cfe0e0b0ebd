"""Moving vertices without touching faces or texture coordinates: smoothing, flattening, raising, placing.

References
----------
Taubin, G. (1995). A signal processing approach to fair surface design. SIGGRAPH (smoothing that does not shrink).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix, csr_matrix

from vast_quarry.core.align.level import turn_matrix
from vast_quarry.core.errors import PlainError
from vast_quarry.core.pose import rotation_between
from vast_quarry.core.surface.mesh import edge_faces, open_edges, vertex_normals

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
Chosen = NDArray[np.bool_]
#: steps inwards and back (Taubin 1995: a pass band of about a tenth)
_IN, _BACK = 0.5, -0.53


def neighbours(faces: Faces, count: int) -> csr_matrix:
    """Which vertices (count, count) share an edge, each row summing to 1; those on a border have their border neighbours alone."""
    _, inner = edge_faces(faces)
    rim = open_edges(faces)
    edges = np.concatenate([inner, rim])
    border = np.zeros(count, bool)
    border[rim] = True
    on_rim = np.concatenate([np.zeros(len(inner), bool), np.ones(len(rim), bool)])
    a = np.concatenate([edges[:, 0], edges[:, 1]])
    b = np.concatenate([edges[:, 1], edges[:, 0]])
    keep = ~border[a] | np.concatenate([on_rim, on_rim])
    graph = coo_matrix((np.ones(int(keep.sum())), (a[keep], b[keep])), shape=(count, count)).tocsr()
    graph.data[:] = 1
    total = np.asarray(graph.sum(1)).ravel()
    graph.data /= np.repeat(np.maximum(total, 1), np.diff(graph.indptr))
    return graph


def softened(faces: Faces, chosen: Chosen, count: int, rings: int) -> Array:
    """Weights (count,) of vertices: 1 within a selection of faces, falling to 0 over so many rings inside its rim."""
    inside = np.ones(count, bool)
    inside[faces[~chosen]] = False
    inside[~np.isin(np.arange(count), faces[chosen])] = False
    weight = inside.astype(float)
    now = inside
    for k in range(1, rings):
        reached = np.zeros(count, bool)
        reached[faces[~now[faces].all(1)]] = True
        now = now & ~reached
        weight[now] = k + 1
    if weight.max() <= 0:
        return weight
    t = weight / weight.max()
    return np.asarray(t * t * (3 - 2 * t))


def smoothed(vertices: Array, faces: Faces, weight: Array, passes: int = 10) -> Array:
    """Vertices (N, 3) smoothed where their weight (N,) is above 0; the volume is kept."""
    mean = neighbours(faces, len(vertices))
    v = vertices.copy()
    lonely = np.asarray(mean.sum(1)).ravel() == 0
    w = np.where(lonely, 0, weight)[:, None]
    for _ in range(passes):
        for step in (_IN, _BACK):
            v += step * w * (mean @ v - v)
    return v


def sharpened(vertices: Array, faces: Faces, weight: Array, strength: float = 0.5) -> Array:
    """Vertices moved away from their smoothed places: edges become crisper."""
    soft = smoothed(vertices, faces, weight, 6)
    return np.asarray(vertices + strength * weight[:, None] * (vertices - soft))


def flattened(vertices: Array, weight: Array, point: Array | None = None, normal: Array | None = None) -> Array:
    """Vertices led to a plane, the one that fits those of weight above 0 when none is given."""
    on = weight > 0
    if on.sum() < 3:
        raise PlainError("Too little is selected to lay a plane through.", "Select more of the surface.")
    if point is None or normal is None:
        point = np.average(vertices[on], axis=0, weights=weight[on])
        centered = (vertices[on] - point) * np.sqrt(weight[on])[:, None]
        normal = np.linalg.svd(centered, full_matrices=False)[2][2]
    normal = normal / np.linalg.norm(normal)
    height = (vertices - point) @ normal
    return np.asarray(vertices - weight[:, None] * height[:, None] * normal)


def raised(vertices: Array, faces: Faces, weight: Array, by: float) -> Array:
    """Vertices moved outwards (inwards below 0) along their normals."""
    return np.asarray(vertices + by * weight[:, None] * vertex_normals(vertices, faces))


def brush_weight(vertices: Array, places: Sequence[Sequence[float]], radius: float) -> Array:
    """Weights (N,) of a soft round brush along some places: 1 in the middle, 0 from its radius on."""
    if not radius > 0:
        raise PlainError("A brush has to be larger than 0.", "Choose a size.")
    out = np.zeros(len(vertices))
    for place in np.asarray(places, float).reshape(-1, 3):
        t = np.clip(1 - np.linalg.norm(vertices - place, axis=1) / radius, 0, 1)
        out = np.maximum(out, t * t * (3 - 2 * t))
    return out


def turn_of(degrees: Sequence[float]) -> Array:
    """Rotation (3, 3) by angles in degrees about x, then y, then z."""
    return turn_matrix([(axis, float(angle)) for axis, angle in zip("xyz", degrees)])


def turn_up(normal: Array) -> Array:
    """The least rotation (3, 3) that makes a direction point up."""
    if not np.linalg.norm(normal) > 0:
        raise PlainError("The places do not say a direction.", "Pick places farther apart.")
    return rotation_between(normal, [0.0, 0.0, 1.0])
