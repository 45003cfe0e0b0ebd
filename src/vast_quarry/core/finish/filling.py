"""Closing holes: flat, or following the surface about them.

A hole is triangulated with the least area, its triangles made as small as those about it, and its new vertices laid where the
surface about the hole goes on.

References
----------
Barequet, G., Sharir, M. (1995). Filling gaps in the boundary of a polyhedron. Computer Aided Geometric Design 12.
Liepa, P. (2003). Filling holes in meshes. SGP.
Botsch, M., Kobbelt, L. (2004). An intuitive framework for real-time freeform modeling. ACM TOG 23 (surfaces of least bending).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.sparse import identity
from scipy.sparse.linalg import spsolve

from vast_quarry.core.finish import remesh_kernels as kernels
from vast_quarry.core.finish.remesh import LONG, TURN, edge_for, lines_of
from vast_quarry.core.finish.shaping import neighbours
from vast_quarry.core.surface.holes import boundary_loops, flat_triangles
from vast_quarry.core.surface.mesh import compacted, face_areas

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
How = Literal["auto", "flat", "smooth"]
#: rims of more vertices are closed about their middle: the best triangles take as long as their number cubed
MOST_RIM = 360
#: new triangles of a hole at most, as those about it ask for
MOST_NEW = 200_000


@dataclass(frozen=True)
class Hole:
    """A hole: vertices along its rim (K,), how far across it is, its rim's length and middle."""

    rim: NDArray[np.int64]
    across: float
    length: float
    middle: Array


def holes_of(vertices: Array, faces: Faces) -> list[Hole]:
    """Holes of a mesh, the longest rim first; the outer border of an open mesh is one of them."""
    out = []
    for loop in boundary_loops(faces):
        p = vertices[loop]
        length = float(np.linalg.norm(p - np.roll(p, 1, axis=0), axis=1).sum())
        out.append(Hole(loop, float(np.linalg.norm(np.ptp(p, axis=0))), length, p.mean(0)))
    return sorted(out, key=lambda h: -h.length)


@njit(error_model="numpy", cache=True)
def _least_area(points, choice):
    """For each stretch of a rim (K, 3) the corner ``choice`` (K, K) that closes it with least area and least folding."""
    n = len(points)
    cost = np.zeros((n, n))
    for span in range(2, n):
        for i in range(n - span):
            k = i + span
            best, at = np.inf, -1
            for m in range(i + 1, k):
                ux, uy, uz = points[m, 0] - points[i, 0], points[m, 1] - points[i, 1], points[m, 2] - points[i, 2]
                wx, wy, wz = points[k, 0] - points[i, 0], points[k, 1] - points[i, 1], points[k, 2] - points[i, 2]
                x, y, z = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
                total = cost[i, m] + cost[m, k] + 0.5 * np.sqrt(x * x + y * y + z * z)
                if total < best:
                    best, at = total, m
            cost[i, k], choice[i, k] = best, at


def least_area_triangles(rim: Array) -> Faces:
    """Triangles (K - 2, 3) of a closed polygon (K, 3) with the least area together."""
    n = len(rim)
    choice = np.zeros((n, n), np.int64)
    _least_area(np.ascontiguousarray(rim), choice)
    out, todo = [], [(0, n - 1)]
    while todo:
        i, k = todo.pop()
        if k - i < 2:
            continue
        m = int(choice[i, k])
        out.append((i, m, k))
        todo += [(i, m), (m, k)]
    return np.array(out, np.int64)


def filled(vertices: Array, faces: Faces, holes: list[Hole], how: How = "auto") -> tuple[Array, Faces]:
    """A mesh with some of its holes closed; new vertices and faces come after the old ones.

    By itself a hole with a flat rim is closed flat, any other so that the surface goes on over it.
    """
    for hole in holes:
        vertices, faces = _closed(vertices, faces, hole, how)
    return vertices, faces


def _closed(vertices: Array, faces: Faces, hole: Hole, how: How) -> tuple[Array, Faces]:
    loop = hole.rim
    rim = vertices[loop]
    flat = flat_triangles(rim)
    if len(loop) == 3:
        return vertices, np.concatenate([faces, loop[None]])
    if flat is not None and how != "smooth":
        return vertices, np.concatenate([faces, loop[flat]])
    if flat is not None:
        new_v, patch = vertices, loop[flat]
    elif len(loop) <= MOST_RIM:
        new_v, patch = vertices, loop[least_area_triangles(rim)]
    else:
        new_v = np.concatenate([vertices, rim.mean(0, keepdims=True)])
        patch = np.stack([loop, np.roll(loop, -1), np.full(len(loop), len(vertices))], 1)
    if how == "flat":
        return new_v, np.concatenate([faces, patch])
    return _fine_and_fair(new_v, faces, patch, hole)


def _fine_and_fair(vertices: Array, faces: Faces, patch: Faces, hole: Hole) -> tuple[Array, Faces]:
    """A patch with triangles like those about it, laid where the surface goes on."""
    v, f, kept = compacted(vertices, patch)
    rim_length = np.linalg.norm(vertices[hole.rim] - vertices[np.roll(hole.rim, 1)], axis=1)
    # what a cut left may be far shorter than the triangles about it
    about = faces[np.isin(faces, hole.rim).any(1)]
    usual = float(np.sqrt(2 * np.median(face_areas(vertices, about))))
    edge = max(float(np.median(rim_length)), usual, hole.length / 4000)
    v, f = _refined(v, f, edge)
    # rim vertices keep their numbers, which come first
    number = np.concatenate([kept, len(vertices) + np.arange(len(v) - len(kept))])
    inside = np.concatenate([np.isin(kept, np.setdiff1d(kept, hole.rim)), np.ones(len(v) - len(kept), bool)])
    whole_v = np.concatenate([vertices, v[len(kept) :]])
    whole_f = np.concatenate([faces, number[f]])
    new = number[inside]
    if not len(new):
        return whole_v, whole_f
    # three rings about the hole say how the surface goes on
    near = np.zeros(len(whole_v), bool)
    near[new] = True
    for _ in range(3):
        near[np.unique(whole_f[near[whole_f].any(1)])] = True
    some = whole_f[near[whole_f].all(1)]
    local_v, local_f, local = compacted(whole_v, some)
    free = np.isin(local, new)
    smooth = identity(len(local_v), format="csr") - neighbours(local_f, len(local_v))
    bend = (smooth @ smooth).tocsr()
    rows = bend[free]
    solved = spsolve(rows[:, free].tocsc(), -(rows[:, ~free] @ local_v[~free]))
    if np.isfinite(solved).all():
        # where the rim is ragged it may swell: no farther than the hole is wide
        moved = np.asarray(solved).reshape(-1, 3)
        if np.abs(moved - hole.middle).max() < hole.across:
            whole_v[local[free]] = moved
    return whole_v, whole_f


def _refined(v: Array, f: Faces, edge: float) -> tuple[Array, Faces]:
    """Triangles of a patch split until their edges are about so long; its rim stays as it is."""
    area = float(face_areas(v, f).sum())
    edge = max(edge, edge_for(area, MOST_NEW))
    twin, line, kind = lines_of(v, f, np.pi)
    room_v, room_f = len(v) + 4 * MOST_NEW, len(f) + 8 * MOST_NEW
    need = int(min(room_f, len(f) + 16 * (area / (edge**2) + len(f)) + 64))
    need_v = int(min(room_v, len(v) + need))
    big_v, big_f = np.zeros((need_v, 3)), np.full((need, 3), -1, np.int64)
    big_v[: len(v)], big_f[: len(f)] = v, f
    twins, lines = np.full(3 * need, -1, np.int64), np.zeros(3 * need, bool)
    twins[: len(twin)], lines[: len(line)] = twin, line
    kinds, out = np.zeros(need_v, np.int8), np.full(need_v, -1, np.int64)
    kinds[: len(v)] = kind
    out[f.ravel()] = np.arange(3 * len(f))
    # the rim is no longer than it asks for itself
    wanted = np.full(need_v, edge)
    rim = np.flatnonzero(line)
    a, b = f[rim // 3, rim % 3], f[rim // 3, (rim % 3 + 1) % 3]
    length = np.linalg.norm(v[a] - v[b], axis=1)
    np.maximum.at(wanted, a, length)
    np.maximum.at(wanted, b, length)
    count = np.array([len(v), len(f)])
    for _ in range(40):
        split, full = kernels.split_long(big_v, big_f, twins, lines, kinds, out, wanted, count, LONG)
        kernels.turn_edges(big_v, big_f, twins, lines, kinds, out, count, TURN)
        if full or not split:
            break
    return big_v[: count[0]], big_f[: count[1]]
