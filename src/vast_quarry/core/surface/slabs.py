"""A surface made in parts: the cloud cut across its longest side into slabs that overlap, and their surfaces joined without a border.

Neighbouring surfaces go through the same points where they overlap, and differ there by little. Each is led over to the mean of both
towards the plane between them, so that they meet in it; cut there, their rims are sewn together: corners that lie at the same place become
one, and the others are put into the edge of the other side that they lie on.

References
----------
Turk, G., Levoy, M. (1994). Zippered polygon meshes from range images. SIGGRAPH (overlapping sheets cut and sewn along their rims).
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.cut import cut_open
from vast_quarry.core.surface.mesh import compacted, open_edges, with_three_corners, without_degenerate

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
Mesh = tuple[Array, Faces]

#: how far from an even share a cut may go for a place where little is cut, as a share of a slab's points
LEEWAY = 0.15
#: a slab is at least so many margins thick
THICK = 4.0
#: share of the extent within which a vertex lies in a plane
CLOSE = 2e-6
#: rims are sewn where they lie within this share of a cell of each other; corners closer than the second share become one
SEWN, ONE = 0.75, 0.3


@dataclass(frozen=True)
class Slab:
    """What lies between two planes across an axis, and ``margin`` beyond them; the outermost have no end."""

    axis: int
    low: float
    high: float
    margin: float

    def holds(self, points: NDArray) -> NDArray[np.bool_]:
        """Which points (N, 3) lie in it or in its margin."""
        along = points[:, self.axis]
        return (along >= self.low - self.margin) & (along <= self.high + self.margin)


def slabs_of(points: NDArray, most: int, margin: float) -> list[Slab]:
    """Slabs of about ``most`` of the points (N, 3) at most, each overlapping the next by twice ``margin``.

    The cuts go where few points are. Fewer slabs where they would be too thin for their margins.
    """
    extent = np.ptp(points, axis=0)
    axis = int(extent.argmax())
    along = np.sort(points[:, axis])
    wanted = min(-(-len(points) // most), max(1, int(extent[axis] / (THICK * margin))))
    cuts: list[float] = []
    for k in range(1, wanted):
        share = len(points) / wanted
        low, high = (along[int(share * (k + side * LEEWAY))] for side in (-1, 1))
        places = np.linspace(low, high, 33)
        here = [np.searchsorted(along, [p - margin / 4, p + margin / 4]) for p in places]
        cut = float(places[int(np.argmin([b - a for a, b in here]))])
        if cut - (cuts[-1] if cuts else along[0]) >= THICK / 2 * margin and along[-1] - cut >= THICK / 2 * margin:
            cuts.append(cut)
    ends = [-np.inf, *cuts, np.inf]
    return [Slab(axis, a, b, margin) for a, b in pairwise(ends)]


def _led(mesh: Mesh, other: Mesh, axis: int, at: float, reach: float) -> Array:
    """Vertices of a mesh, led over to the mean with another's surface towards a plane that lies within ``reach``."""
    vertices = mesh[0].copy()
    away = np.abs(vertices[:, axis] - at)
    near = np.flatnonzero(away < reach)
    # no vertex is led farther than that, so no other face counts
    faces = other[1][(np.abs(other[0][:, axis] - at) < 2 * reach)[other[1]].any(1)]
    if not len(near) or not len(faces):
        return vertices
    scene = RayScene()
    scene.add(other[0], faces)
    face, uv = scene.nearest(vertices[near])
    a, b, c = (other[0][faces[face, k]] for k in range(3))
    shift = a + uv[:, :1] * (b - a) + uv[:, 1:] * (c - a) - vertices[near]
    # what lies farther off is not the same piece of the surface
    shift[np.linalg.norm(shift, axis=1) > reach] = 0.0
    ramp = 1 - away[near] / reach
    vertices[near] += (0.5 * ramp * ramp * (3 - 2 * ramp))[:, None] * shift
    return vertices


def _rim(mesh: Mesh, axis: int, at: float, close: float) -> NDArray[np.int64]:
    """Open edges (K, 2) that lie in a plane, as the faces beside them have them."""
    vertices, faces = mesh
    there = np.abs(vertices[:, axis] - at) <= close
    # only faces that touch the plane have edges in it
    rim = open_edges(faces[there[faces].any(1)])
    return rim[there[rim].all(1)]


#: vertices that are put into an open edge, in order along it
Puts = dict[tuple[int, int], list[int]]


def _between_pairs(
    vertices: Array, edges: list[NDArray[np.int64]], pairs: dict[int, int], reach: float
) -> tuple[Puts, Puts]:
    """Which vertices to put into which edges of two rims (K, 2), so that they run through the same between corners that are one.

    ``pairs`` names the corners of the second rim that those of the first are one with. Between two of them either rim goes its own
    way: what one has there is put into the other's edges in the order of its length. Only where that is within ``reach``.
    """
    after = dict(edges[0].tolist())
    # the second runs the other way about
    before = {b: a for a, b in edges[1].tolist()}
    back = {b: a for a, b in pairs.items()}
    puts: tuple[Puts, Puts] = {}, {}
    for first, second in pairs.items():
        one, two = _chain(first, after, pairs), _chain(second, before, back)
        if one is None or two is None or pairs[one[-1]] != two[-1] or len(one) == len(two) == 2:
            continue
        lengths = [_lengths(vertices[c]) for c in (one, two)]
        for side, (own, other) in enumerate(((one, two), (two, one))):
            own_at, other_at = lengths[side], lengths[1 - side]
            edge = np.searchsorted(own_at, other_at[1:-1], side="right") - 1
            edge = np.clip(edge, 0, len(own) - 2)
            for vertex, e, t in zip(other[1:-1], edge.tolist(), other_at[1:-1].tolist()):
                a, b = own[e], own[e + 1]
                share = (t - own_at[e]) / max(own_at[e + 1] - own_at[e], 1e-300)
                there = vertices[a] + share * (vertices[b] - vertices[a])
                if float(np.linalg.norm(there - vertices[vertex])) > reach:
                    continue
                # edges of the second rim are named as its faces have them
                puts[side].setdefault((a, b) if side == 0 else (b, a), []).append(vertex)
    for into in puts[1].values():
        into.reverse()
    return puts


def _chain(first: int, following: dict[int, int], ends: dict[int, int]) -> list[int] | None:
    """A rim from a corner to the next of ``ends``; None where it comes to none."""
    chain = [first]
    while len(chain) <= len(following):
        at = following.get(chain[-1])
        if at is None:
            return None
        chain.append(at)
        if at in ends:
            return chain
    return None


def _lengths(points: Array) -> Array:
    """How far along a line each of its points (N, 3) lies, from 0 to 1."""
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    return along / max(float(along[-1]), 1e-300)


def _split(faces: Faces, put: Puts) -> Faces:
    """Faces with vertices put into some of their open edges: each such face becomes a fan."""
    if not put:
        return faces
    touched = np.flatnonzero(np.isin(faces, np.array(sorted({a for a, _ in put}))).any(1))
    gone, more = [], []
    for n in touched.tolist():
        corner = faces[n].tolist()
        for k in range(3):
            a, b, c = corner[k], corner[(k + 1) % 3], corner[(k + 2) % 3]
            if (a, b) in put:
                chain = [a, *put[a, b], b]
                gone.append(n)
                more += [(x, y, c) for x, y in pairwise(chain)]
                break  # no face has two edges in the plane
    keep = np.ones(len(faces), bool)
    keep[gone] = False
    return np.concatenate([faces[keep], np.array(more, np.int64).reshape(-1, 3)])


def sewn(below: Mesh, above: Mesh, axis: int, at: float, cell: float) -> Mesh:
    """Two meshes that end in a plane, sewn together along their rims there; what has nothing to meet stays open."""
    v = np.concatenate([below[0], above[0]])
    close = CLOSE * float(np.ptp(v, axis=0).max())
    faces = _sewn(v, below[1], above[1] + len(below[0]), axis, at, close, cell)
    v, f, _ = compacted(v, np.concatenate(faces))
    return v, f


def _sewn(
    vertices: Array, below: Faces, above: Faces, axis: int, at: float, close: float, cell: float
) -> tuple[Faces, Faces, Faces]:
    """Faces of two meshes of the same vertices, which are moved in place, sewn where they end in a plane: those of either that do not
    touch it, as they were, and those that do.

    Only what touches the plane is looked at, so that sewing costs what is sewn, not what hangs on it.
    """
    there = np.abs(vertices[:, axis] - at) <= close
    touch = [there[f].any(1) for f in (below, above)]
    strips = [f[t] for f, t in zip((below, above), touch)]
    used, local = np.unique(np.concatenate(strips), return_inverse=True)
    local = local.reshape(-1, 3)
    v = vertices[used]
    f = _sewn_strips(v, local[: len(strips[0])], local[len(strips[0]) :], axis, at, close, cell)
    vertices[used] = v
    return below[~touch[0]], above[~touch[1]], used[f].reshape(-1, 3)


def _sewn_strips(v: Array, below: Faces, above: Faces, axis: int, at: float, close: float, cell: float) -> Faces:
    edges = [_rim((v, f), axis, at, close) for f in (below, above)]
    if not len(edges[0]) or not len(edges[1]):
        return np.concatenate([below, above])
    mine, theirs = np.unique(edges[0]), np.unique(edges[1])
    # corners that are each other's nearest become one
    far, there = cKDTree(v[theirs]).query(v[mine])
    _, back = cKDTree(v[mine]).query(v[theirs])
    pair = (back[there] == np.arange(len(mine))) & (far <= ONE * cell)
    name = np.arange(len(v))
    name[theirs[there[pair]]] = mine[pair]
    v[mine[pair]] = (v[mine[pair]] + v[theirs[there[pair]]]) / 2
    v[theirs[there[pair]]] = v[mine[pair]]
    puts = _between_pairs(v, edges, dict(zip(mine[pair].tolist(), theirs[there[pair]].tolist())), SEWN * cell)
    whole = name[np.concatenate([_split(f, put) for f, put in zip((below, above), puts)])]
    return _closed_cracks(v, without_degenerate(v, whole), axis, at, close, cell)


def _closed_cracks(vertices: Array, faces: Faces, axis: int, at: float, close: float, cell: float) -> Faces:
    """Faces whose cracks in a plane that are shorter than a cell are drawn together to a point: corners there were put in another order.
    The vertices are moved in place."""
    rim = _rim((vertices, faces), axis, at, close)
    if not len(rim):
        return faces
    used, edge = np.unique(rim, return_inverse=True)
    a, b = edge.reshape(rim.shape).T
    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(len(used), len(used)))
    count, label = connected_components(graph, directed=False)
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    np.minimum.at(low, label, vertices[used])
    np.maximum.at(high, label, vertices[used])
    small = np.linalg.norm(high - low, axis=1) < cell
    mine = used[small[label]]
    _, first, which = np.unique(label[small[label]], return_index=True, return_inverse=True)
    name = np.arange(len(vertices))
    name[mine] = mine[first][which]
    vertices[mine] = ((low + high) / 2)[label[small[label]]]
    return with_three_corners(name[faces])


def joined_slabs(slabs: list[Slab], meshes: list[Mesh], cell: float) -> Mesh:
    """One surface out of those of the slabs, in order; ``cell`` is about how long their edges are."""
    meshes = list(meshes)
    for k in range(len(slabs) - 1):
        axis, at, reach = slabs[k].axis, slabs[k].high, slabs[k].margin / 2
        one, two = meshes[k], meshes[k + 1]
        if not len(one[1]) or not len(two[1]):
            continue
        meshes[k] = _led(one, two, axis, at, reach), one[1]
        meshes[k + 1] = _led(two, one, axis, at, reach), two[1]
    for k, slab in enumerate(slabs):
        along = np.eye(3)[slab.axis]
        for end, sign in ((slab.low, 1.0), (slab.high, -1.0)):
            if np.isfinite(end):
                meshes[k] = cut_open(*meshes[k], along * end, along * sign)
    begin = np.cumsum([0, *(len(v) for v, _ in meshes)])
    vertices = np.concatenate([v for v, _ in meshes])
    faces = [f + first for first, (_, f) in zip(begin, meshes)]
    del meshes
    close = CLOSE * float(np.ptp(vertices, axis=0).max()) if len(vertices) else 0.0
    done: list[Faces] = []
    for k in range(1, len(slabs)):
        below, above, seam = _sewn(vertices, faces[k - 1], faces[k], slabs[k].axis, slabs[k].low, close, cell)
        done.append(below)
        faces[k - 1] = below[:0]
        # what was sewn stays with the slab above: a face as long as a slab ends in the next plane too
        faces[k] = np.concatenate([above, seam])
    v, f, _ = compacted(vertices, np.concatenate([*done, faces[-1]]))
    return v, f
