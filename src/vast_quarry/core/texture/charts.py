"""Unwrapping scans: charts of like direction, flattened by parallel projection.

Faces are given one of a fixed set of directions by their smoothed normal; those about pull each other to the same direction
(what each is spreads over the surface, and is decided anew), so that carved detail does not break charts up, and their rims are short:
ragged ones leave much of an atlas empty. Connected faces of one direction are a chart, projected
along it. Faces that the projection would fold over (facing away, or hidden behind others of their chart) go into
charts of their own.

References
----------
Levy, B., Petitjean, S., Ray, N., Maillot, J. (2002). Least squares conformal maps for automatic texture atlas
generation. SIGGRAPH (charts and their packing).
Merriman, B., Bence, J., Osher, S. (1994). Motion of multiple junctions: a level set approach. J. Computational Physics 112(2)
(borders made short by spreading what lies on either side).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components

from vast_quarry.core.surface.mesh import edge_faces, face_areas, face_normals, normalised

Array = NDArray[np.float64]
Ints = NDArray[np.int64]


def _directions() -> Array:
    """Axes, corners of a cube: 14 directions no more than 35 degrees from any other."""
    out = [(x, y, z) for x in (-1, 0, 1) for y in (-1, 0, 1) for z in (-1, 0, 1) if abs(x) + abs(y) + abs(z) in (1, 3)]
    return normalised(np.array(out, dtype=float))


DIRECTIONS = _directions()
#: how often directions spread, and over how many rings of faces each time. More make rims shorter and charts steeper (of a carved stone, a
#: turned finial and a well-head these left least of an atlas empty for what they cost)
SPREADS, ROUNDS = 3, 24


@dataclass
class Charts:
    """Charts of a mesh.

    Attributes
    ----------
    chart : (M,) int
        Chart of each face.
    direction : (C,) int
        Direction each chart is projected along.
    """

    chart: Ints
    direction: Ints


def _adjacency(faces: Ints) -> csr_matrix:
    pairs, _ = edge_faces(faces)
    m = len(faces)
    both = np.concatenate([pairs, pairs[:, ::-1]])
    return coo_matrix((np.ones(len(both), np.float32), (both[:, 0], both[:, 1])), shape=(m, m)).tocsr()


def _split(faces_label: Ints, adjacency: csr_matrix) -> Ints:
    """Connected components of faces with one label, (M,)."""
    a = adjacency.tocoo()
    same = faces_label[a.row] == faces_label[a.col]
    graph = coo_matrix((a.data[same], (a.row[same], a.col[same])), shape=adjacency.shape)
    return connected_components(graph, directed=False)[1].astype(np.int64)


@njit(error_model="numpy", cache=True, parallel=True)
def _spread(start, beside, values, out):
    """The mean of what each face and its (three) neighbours have of some values (M, d)."""
    for f in prange(values.shape[0]):
        for k in range(values.shape[1]):
            total = values[f, k]
            for n in range(start[f], start[f + 1]):
                total += values[beside[n], k]
            out[f, k] = np.float32(0.25) * total


def make_charts(vertices: Array, faces: Ints, smoothing: int = 12, smallest: int = 24) -> Charts:
    """Split a mesh into charts.

    Parameters
    ----------
    vertices : (N, 3), faces : (M, 3)
    smoothing : int
        Rounds of averaging of normals over neighbours.
    smallest : int
        Charts of fewer faces are joined to a neighbour where its projection allows.
    """
    adjacency = _adjacency(faces)
    normal = face_normals(vertices, faces)
    area = face_areas(vertices, faces)
    smooth = normal * (area[:, None] / max(area.mean(), 1e-300) + 1e-3)
    for _ in range(smoothing):
        smooth = 0.4 * smooth + 0.6 * (adjacency @ smooth) / 3.0
    smooth = normalised(smooth)
    fit = (smooth @ DIRECTIONS.T).astype(np.float32)
    label = fit.argmax(1)
    one = np.eye(len(DIRECTIONS), dtype=np.float32)
    for _ in range(SPREADS):
        about = one[label]
        other = np.empty_like(about)
        for _ in range(ROUNDS):
            _spread(adjacency.indptr, adjacency.indices, about, other)
            about, other = other, about
        label = (fit + about).argmax(1)
    own = normal @ DIRECTIONS.T
    rows = np.arange(len(faces))
    bad = own[rows, label] < 0.12
    label[bad] = own[bad].argmax(1)
    chart = _split(label, adjacency)
    for _ in range(4):
        chart, label, changed = _join_small(chart, label, adjacency, own, smallest)
        if not changed:
            break
    chart = _split(label, adjacency)
    label = _unfold(vertices, faces, chart, label, area)
    chart = _split(label, adjacency)
    direction = np.zeros(int(chart.max(initial=-1)) + 1, np.int64)
    direction[chart] = label % len(DIRECTIONS)
    return Charts(chart, direction)


def _join_small(chart: Ints, label: Ints, adjacency: csr_matrix, own: Array, smallest: int) -> tuple[Ints, Ints, bool]:
    """Small charts take over the label of the neighbour they share most edges with, where no face would fold."""
    size = np.bincount(chart)
    small = size[chart] < smallest
    a = adjacency.tocoo()
    edge = small[a.row] & (chart[a.row] != chart[a.col])
    if not edge.any():
        return chart, label, False
    mine, theirs = chart[a.row[edge]], label[a.col[edge]]
    count = np.zeros((len(size), len(DIRECTIONS)), np.int64)
    np.add.at(count, (mine, theirs), 1)
    worst = np.full((len(size), len(DIRECTIONS)), np.inf)
    np.minimum.at(worst, chart[small], own[small])
    count[worst < 0.12] = 0
    wanted = count.argmax(1)
    can = count.max(1) > 0
    move = small & can[chart]
    new = label.copy()
    new[move] = wanted[chart[move]]
    return _split(new, adjacency), new, bool((new != label).any())


def basis(direction: int) -> tuple[Array, Array, Array]:
    """Right, up and depth axis of a chart's projection, seen from outside."""
    d = DIRECTIONS[direction]
    helper = np.array([0.0, 0.0, 1.0]) if abs(d[2]) < 0.9 else np.array([0.0, 1.0, 0.0])
    right = np.cross(helper, d)
    right /= np.linalg.norm(right)
    return right, np.cross(d, right), d


def cut_to(vertices: Array, faces: Ints, charts: Charts, side: float) -> Charts:
    """Charts longer than ``side`` in world units cut along a grid in their planes, each piece still hanging together."""
    middle = vertices[faces].mean(1)
    label = charts.chart.astype(np.int64).copy()
    key = np.zeros((len(faces), 2), np.int64)
    for direction in np.unique(charts.direction):
        right, up, _ = basis(int(direction))
        mine = charts.direction[charts.chart] == direction
        at = np.stack([middle[mine] @ right, middle[mine] @ up], 1)
        key[mine] = np.floor(at / side).astype(np.int64)
    # charts that are short enough stay whole
    low, high = np.full((len(charts.direction), 3), np.inf), np.full((len(charts.direction), 3), -np.inf)
    np.minimum.at(low, label, middle)
    np.maximum.at(high, label, middle)
    key[((high - low).max(1) <= side)[label]] = 0
    _, piece = np.unique(np.column_stack([label, key]), axis=0, return_inverse=True)
    part = _split(piece.reshape(-1), _adjacency(faces))
    direction = np.empty(int(part.max(initial=-1)) + 1, charts.direction.dtype)
    direction[part] = charts.direction[label]
    return Charts(part, direction)


@njit(error_model="numpy", cache=True)
def _hidden(x, y, z, width, height, tolerance):
    """Faces (x, y, z are (M, 3) corner coordinates in cells) whose middle lies under another face."""
    top = np.full((height, width), -1e30)
    m = x.shape[0]
    for f in range(m):
        x0 = max(int(np.floor(min(x[f, 0], x[f, 1], x[f, 2]))), 0)
        x1 = min(int(np.ceil(max(x[f, 0], x[f, 1], x[f, 2]))), width - 1)
        y0 = max(int(np.floor(min(y[f, 0], y[f, 1], y[f, 2]))), 0)
        y1 = min(int(np.ceil(max(y[f, 0], y[f, 1], y[f, 2]))), height - 1)
        det = (x[f, 1] - x[f, 0]) * (y[f, 2] - y[f, 0]) - (x[f, 2] - x[f, 0]) * (y[f, 1] - y[f, 0])
        if abs(det) < 1e-12:
            continue
        for j in range(y0, y1 + 1):
            for i in range(x0, x1 + 1):
                u = ((i + 0.5 - x[f, 0]) * (y[f, 2] - y[f, 0]) - (x[f, 2] - x[f, 0]) * (j + 0.5 - y[f, 0])) / det
                v = ((x[f, 1] - x[f, 0]) * (j + 0.5 - y[f, 0]) - (i + 0.5 - x[f, 0]) * (y[f, 1] - y[f, 0])) / det
                if u >= 0 and v >= 0 and u + v <= 1:
                    d = z[f, 0] * (1 - u - v) + z[f, 1] * u + z[f, 2] * v
                    top[j, i] = max(top[j, i], d)
    out = np.zeros(m, np.bool_)
    for f in range(m):
        i = min(max(int((x[f, 0] + x[f, 1] + x[f, 2]) / 3), 0), width - 1)
        j = min(max(int((y[f, 0] + y[f, 1] + y[f, 2]) / 3), 0), height - 1)
        out[f] = top[j, i] > (z[f, 0] + z[f, 1] + z[f, 2]) / 3 + tolerance
    return out


def _unfold(vertices: Array, faces: Ints, chart: Ints, label: Ints, area: Array) -> Ints:
    """Faces hidden behind others of their own chart get a label of their own (the same direction, apart)."""
    out = label.copy()
    order = np.argsort(chart, kind="stable")
    bounds = np.concatenate([[0], np.flatnonzero(np.diff(chart[order])) + 1, [len(order)]])
    cell = float(np.sqrt(np.median(area))) * 1.2 + 1e-12
    for a, b in itertools.pairwise(bounds):
        mine = order[a:b]
        if len(mine) < 3:
            continue
        right, up, d = basis(int(label[mine[0]]) % len(DIRECTIONS))
        p = vertices[faces[mine]]
        x, y, z = p @ right / cell, p @ up / cell, p @ d / cell
        x, y = x - x.min(), y - y.min()
        width, height = int(x.max()) + 2, int(y.max()) + 2
        if width * height > 40_000_000:
            continue
        # a steep face reaches far in depth within one cell: only clear gaps count
        out[mine[_hidden(x, y, z, width, height, 4.0)]] += len(DIRECTIONS)
    return out


def stretch(vertices: Array, uv: Array, faces: Ints) -> Array:
    """How much longer each face (M,) is drawn one way than the other, against how it is: 1 where its shape is kept.

    The ratio of the singular values of the map from a face (of vertices (N, 3)) to its place in the atlas (uv (N, 2)); see Sander, P., Snyder, J.,
    Gortler, S., Hoppe, H. (2001). Texture mapping progressive meshes. SIGGRAPH.
    """
    e1, e2 = (vertices[faces[:, k]] - vertices[faces[:, 0]] for k in (1, 2))
    along = normalised(e1)
    side = (e2 * along).sum(1)
    up = np.linalg.norm(e2 - side[:, None] * along, axis=1)
    d1, d2 = (uv[faces[:, k]] - uv[faces[:, 0]] for k in (1, 2))
    x = d1 / np.maximum(np.linalg.norm(e1, axis=1), 1e-300)[:, None]
    y = (d2 - side[:, None] * x) / np.maximum(up, 1e-300)[:, None]
    a, b, c = (x * x).sum(1), (x * y).sum(1), (y * y).sum(1)
    root = np.sqrt((a - c) ** 2 + 4 * b * b)
    return np.asarray(np.sqrt((a + c + root) / np.maximum(a + c - root, 1e-12 * np.maximum(a + c, 1e-300))))
