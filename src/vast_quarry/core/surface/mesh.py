"""Small operations on indexed triangle meshes: vertices (N, 3) float, faces (M, 3) int, counter-clockwise seen from outside."""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

Array = NDArray[np.float64]
Faces = NDArray[np.int64]


#: faces whose corners are looked up together
AT_ONCE = 1_000_000


def face_cross(vertices: Array, faces: Faces) -> Array:
    """Cross product of two edges of each face (M, 3): along the normal, twice the area long."""
    a, b, c = vertices[faces[:, 0]], vertices[faces[:, 1]], vertices[faces[:, 2]]
    return np.cross(b - a, c - a)


def normalised(v: Array) -> Array:
    """Rows scaled to unit length; rows of zeros stay zero."""
    length = np.linalg.norm(v, axis=1, keepdims=True)
    return v / np.where(length > 1e-300, length, 1.0)


def face_normals(vertices: Array, faces: Faces) -> Array:
    """Unit normals of faces (M, 3)."""
    return normalised(face_cross(vertices, faces))


def face_areas(vertices: Array, faces: Faces) -> Array:
    """Areas of faces (M,)."""
    out = np.empty(len(faces))
    # some at a time: corners of all at once take twenty times what is kept of them
    for first in range(0, len(faces), AT_ONCE):
        here = slice(first, first + AT_ONCE)
        out[here] = np.linalg.norm(face_cross(vertices, faces[here]), axis=1) / 2.0
    return out


def vertex_normals(vertices: Array, faces: Faces) -> Array:
    """Area-weighted unit normals of vertices (N, 3)."""
    cross = face_cross(vertices, faces)
    out = np.empty_like(vertices, dtype=float)
    for axis in range(3):
        w = np.repeat(cross[:, axis], 3)
        out[:, axis] = np.bincount(faces.ravel(), weights=w, minlength=len(vertices))
    return normalised(out)


def same_places(vertices: Array, grain: float = 1e-7) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Vertices that lie on each other, within a share of the mesh's size.

    Returns
    -------
    first : (K,) one vertex of each place
    which : (N,) the place of each vertex
    """
    low = vertices.min(0)
    size = float((vertices.max(0) - low).max()) or 1.0
    key = np.round((vertices - low) / (size * grain)).astype(np.int64)
    # one number for each place: a hash is sorted many times quicker than rows are
    with np.errstate(over="ignore"):
        code = (
            key.astype(np.uint64) * np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9], np.uint64)
        ).sum(1)
    _, first, which = np.unique(code, return_index=True, return_inverse=True)
    which = which.reshape(-1)
    if (key[first[which]] != key).any():
        _, first, which = np.unique(key, axis=0, return_index=True, return_inverse=True)
    return first, which.reshape(-1)


def joined(vertices: Array, faces: Faces) -> tuple[Array, Faces]:
    """A mesh with vertices that lie on each other joined: without the seams of its texture."""
    first, which = same_places(vertices)
    return vertices[first], which[faces].astype(np.int64)


def within_faces(values: NDArray, corners: Faces, at: NDArray) -> NDArray:
    """Values (K, d) at places of faces, out of those of vertices (N, d).

    ``corners`` (K, 3) are the vertices of each place's face, ``at`` (K, 2) the weights of the second and third of them.
    """
    b, c = at[:, :1], at[:, 1:]
    return np.asarray((1 - b - c) * values[corners[:, 0]] + b * values[corners[:, 1]] + c * values[corners[:, 2]])


def signed_volume(vertices: Array, faces: Faces) -> float:
    """Volume by signed tetrahedra: below 0 for a mesh that is inside out; of an open one it says that alone."""
    p = vertices - vertices.mean(0)
    a, b, c = (p[faces[:, k]] for k in range(3))
    return float((a * np.cross(b, c)).sum() / 6)


def compacted(vertices: Array, faces: Faces) -> tuple[Array, Faces, NDArray[np.int64]]:
    """Drop vertices that no face uses.

    Returns
    -------
    vertices, faces
    kept : (K,) index of each vertex that stays, in the old numbering
    """
    used = np.zeros(len(vertices), bool)
    used[faces.ravel()] = True
    kept = np.flatnonzero(used)
    return vertices[kept], (np.cumsum(used) - 1)[faces], kept


def without_short_edges(vertices: Array, faces: Faces, shorter: float) -> tuple[Array, Faces]:
    """The two ends of each edge that is ``shorter`` than that become one vertex."""
    edges = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    a, b = edges[np.linalg.norm(vertices[edges[:, 0]] - vertices[edges[:, 1]], axis=1) < shorter].T
    if not len(a):
        return vertices, faces
    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(len(vertices), len(vertices)))
    _, label = connected_components(graph, directed=False)
    _, first = np.unique(label, return_index=True)
    v, f, _ = compacted(vertices[first], with_three_corners(label[faces]))
    return v, f


def _shared(faces: Faces) -> tuple[Faces, Faces]:
    """Pairs (P, 2) of corners whose faces share the edge that begins there: corner k of face n of M is number k M + n."""
    start, end = faces.T.ravel(), faces[:, [1, 2, 0]].T.ravel()
    key = np.minimum(start, end)
    np.maximum(start, end, out=end)
    key *= int(faces.max(initial=0)) + 1
    key += end
    order = np.argsort(key, kind="stable")
    key = key[order]
    same = key[1:] == key[:-1]
    return order[:-1][same], order[1:][same]


def edge_faces(faces: Faces) -> tuple[Faces, Faces]:
    """Pairs of faces that share an edge.

    Returns
    -------
    pairs : (P, 2) face indices
    edges : (P, 2) vertex indices of the shared edge, the smaller first
    """
    first, second = _shared(faces)
    corner, face = np.divmod(first, max(len(faces), 1))
    a, b = faces[face, corner], faces[face, (corner + 1) % 3]
    pairs = np.stack([face, second % max(len(faces), 1)], 1)
    return pairs, np.stack([np.minimum(a, b), np.maximum(a, b)], 1)


def open_edges(faces: Faces) -> Faces:
    """Edges (K, 2) with a face on one side only, as that face runs along them; a face that runs the same way is no other side."""
    half = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    base = int(faces.max(initial=0)) + 1
    return half[~np.isin(half[:, 0] * base + half[:, 1], half[:, 1] * base + half[:, 0])]


def cut_apart(vertices: Array, faces: Faces) -> tuple[Array, Faces]:
    """The same faces with sheets that only touch taken apart: no edge has more than two faces, no vertex more than one fan.

    Corners of faces stay one vertex where a shared edge of just two faces leads from one to the next about it (Gueziec, A., Taubin, G.,
    Lazarus, F., Horn, B. (2001). Cutting and stitching: converting sets of polygons to manifold surfaces. IEEE TVCG 7(2)).
    """
    if not len(faces):
        return vertices, faces
    m = len(faces)
    start = faces.T.ravel()  # corner k of face n is number k m + n
    end = np.roll(faces, -1, axis=1).T.ravel()
    key = np.minimum(start, end) * len(vertices) + np.maximum(start, end)
    order = np.argsort(key, kind="stable")
    _, first, times = np.unique(key[order], return_index=True, return_counts=True)
    one, other = order[first[times == 2]], order[first[times == 2] + 1]
    following = (np.arange(3 * m) + m) % (3 * m)
    # the second runs the other way where faces agree which side is out
    turned = start[one] == end[other]
    at_start = np.where(turned, following[other], other)
    at_end = np.where(turned, other, following[other])
    a, b = np.concatenate([one, following[one]]), np.concatenate([at_start, at_end])
    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(3 * m, 3 * m))
    _, fan = connected_components(graph, directed=False)
    _, which, named = np.unique(fan, return_index=True, return_inverse=True)
    if len(which) == len(np.unique(start)):
        return vertices, faces
    return vertices[start[which]], named.reshape(3, m).T.astype(np.int64)


def components(faces: Faces) -> NDArray[np.int64]:
    """Label (M,) of the edge-connected body each face belongs to, largest first (0)."""
    first, second = (x % max(len(faces), 1) for x in _shared(faces))
    label = _united(len(faces), first, second)
    rank = np.argsort(np.argsort(-np.bincount(label), kind="stable"), kind="stable")
    return rank[label].astype(np.int64)


@njit(error_model="numpy", cache=True)
def _united(count, one, other):
    """Numbers (count,) of the groups that pairs make, in the order of their first members (Tarjan 1975, with halving of paths)."""
    parent = np.arange(count)
    for k in range(len(one)):
        a, b = one[k], other[k]
        while parent[a] != a:
            parent[a] = parent[parent[a]]
            a = parent[a]
        while parent[b] != b:
            parent[b] = parent[parent[b]]
            b = parent[b]
        if a < b:
            parent[b] = a
        else:
            parent[a] = b
    number = np.empty(count, np.int64)
    groups = 0
    for n in range(count):
        # who leads a group comes first in it
        if parent[n] == n:
            number[n] = groups
            groups += 1
        else:
            number[n] = number[parent[n]]
    return number


def main_body(vertices: Array, faces: Faces) -> tuple[Array, Faces]:
    """The connected body with the most faces."""
    if not len(faces):
        return vertices, faces
    v, f, _ = compacted(vertices, faces[components(faces) == 0])
    return v, f


def midpoints(vertices: Array, faces: Faces) -> tuple[Array, Faces]:
    """Each face cut in four at the middles of its edges."""
    edges = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
    key = edges[:, 0] * len(vertices) + edges[:, 1]
    _, first, same = np.unique(key, return_index=True, return_inverse=True)
    a, b, c = same.reshape(3, -1) + len(vertices)
    x, y, z = faces.T
    cut = np.concatenate([np.stack(t, 1) for t in ((x, a, c), (a, y, b), (c, b, z), (a, b, c))])
    return np.concatenate([vertices, vertices[edges[first]].mean(1)]), cut


def with_three_corners(faces: Faces) -> Faces:
    """Faces whose corners are three different vertices."""
    a, b, c = faces.T
    return faces[(a != b) & (b != c) & (c != a)]


def without_degenerate(vertices: Array, faces: Faces) -> Faces:
    """Faces with three different corners and some area."""
    faces = with_three_corners(faces)
    extent = float(np.ptp(vertices, axis=0).max()) if len(vertices) else 1.0
    return faces[face_areas(vertices, faces) > 1e-13 * extent**2]


def sample_faces(vertices: Array, faces: Faces, spacing: float, seed: int = 0) -> tuple[Array, NDArray[np.int64]]:
    """Points (K, 3) spread over faces about ``spacing`` apart, and the face that each lies on."""
    rng = np.random.default_rng(seed)
    area = face_areas(vertices, faces)
    pick = rng.choice(len(faces), max(1, int(area.sum() / spacing**2)), p=area / area.sum())
    return _within(vertices, faces[pick], rng), pick


def _within(vertices: Array, faces: Faces, rng: np.random.Generator) -> Array:
    """A point by chance in each face."""
    r1, r2 = np.sqrt(rng.random(len(faces))), rng.random(len(faces))
    weights = np.stack([1 - r1, r1 * (1 - r2), r1 * r2], 1)
    return np.einsum("nk,nkd->nd", weights, vertices[faces])


def sample_surface(vertices: Array, faces: Faces, count: int, seed: int = 0) -> Array:
    """Points (count, 3) spread evenly over the surface."""
    rng = np.random.default_rng(seed)
    area = face_areas(vertices, faces)
    pick = rng.choice(len(faces), count, p=area / area.sum())
    return _within(vertices, faces[pick], rng)
