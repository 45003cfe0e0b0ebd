"""Even triangles: edges of one length, or shorter where the surface bends, with borders and sharp edges kept.

Long edges are split, short ones collapsed, edges turned towards six neighbours a corner, and corners moved within the surface towards
the middle of their neighbours and back onto the mesh that was given.

References
----------
Botsch, M., Kobbelt, L. (2004). A remeshing approach to multiresolution modeling. SGP.
Dunyach, M., Vanderhaeghe, D., Barthe, L., Botsch, M. (2013). Adaptive remeshing for real-time mesh deformation. Eurographics short
papers (length of edges from curvature).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish import remesh_kernels as kernels
from vast_quarry.core.finish.curvature import largest_curvature
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.decimate import decimate, without_doubles
from vast_quarry.core.surface.mesh import (
    compacted,
    cut_apart,
    edge_faces,
    face_areas,
    face_normals,
    open_edges,
    vertex_normals,
    within_faces,
    without_degenerate,
)  # fmt: skip
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
#: an edge is split from 4/3 of the wanted length on and collapsed below 4/5 of it: no split makes edges that would collapse again
LONG, SHORT = 4 / 3, 4 / 5
#: cosine of how far a face may turn in one step
TURN = 0.5
#: times that all is gone over, and triangles at most
ROUNDS, MOST = 6, 20_000_000
#: a mesh of more triangles than so many times what is wanted is first brought down to that by its form
STARTING = 4
#: adaptive lengths: from this share of the even one to this many times it; and how fast lengths change from corner to corner at most
FINEST, COARSEST, GROWTH = 0.35, 2.0, 0.5


@dataclass
class _State:
    """A mesh under work: arrays longer than what is used, of which ``count`` (2,) says how many vertices and faces there are."""

    v: Array
    faces: Faces
    twin: Faces
    line: NDArray[np.bool_]
    kind: NDArray[np.int8]
    out: Faces
    wanted: Array
    count: Faces

    def grown(self, times: float = 2.0) -> _State:
        """The same with room for more."""

        def longer(x: NDArray, fill: float) -> NDArray:
            more = np.full((int(len(x) * (times - 1)) + 64, *x.shape[1:]), fill, x.dtype)
            return np.concatenate([x, more])

        faces = longer(self.faces, -1)
        extra = 3 * len(faces) - len(self.twin)
        return _State(
            longer(self.v, 0), faces, np.concatenate([self.twin, np.full(extra, -1)]),
            np.concatenate([self.line, np.zeros(extra, bool)]), longer(self.kind, 0), longer(self.out, -1),
            longer(self.wanted, 1), self.count,
        )  # fmt: skip


class _Given:
    """The surface that was given, onto which corners are led back."""

    def __init__(self, vertices: Array, faces: Faces) -> None:
        self.vertices, self.faces = vertices, faces
        self.scene = RayScene()
        self.scene.add(vertices, faces)

    def onto(self, points: Array) -> Array:
        """The places of the surface nearest to points (N, 3)."""
        face, at = self.scene.nearest(points)
        return within_faces(self.vertices, self.faces[face], at.astype(float))


def lines_of(vertices: Array, faces: Faces, sharp: float) -> tuple[Faces, NDArray[np.bool_], NDArray[np.int8]]:
    """Twins (3 M,) of half-edges, which of them lie on borders or on edges sharper than ``sharp`` (radians), and kinds of vertices."""
    m = len(faces)
    twin = np.full(3 * m, -1, np.int64)
    start, end = faces.ravel(), np.roll(faces, -1, axis=1).ravel()
    key, reverse = start * len(vertices) + end, end * len(vertices) + start
    order = np.argsort(key)
    at = np.clip(np.searchsorted(key[order], reverse), 0, 3 * m - 1)
    found = key[order][at] == reverse
    twin[found] = order[at[found]]
    line = twin < 0
    if sharp < np.pi:
        n = face_normals(vertices, faces)
        inner = np.flatnonzero(twin >= 0)
        bend = (n[inner // 3] * n[twin[inner] // 3]).sum(1)
        line[inner[bend < np.cos(sharp)]] = True
    # each line edge once
    edge = np.flatnonzero(line & ((twin < 0) | (twin > np.arange(3 * m))))
    ends = np.bincount(np.concatenate([start[edge], end[edge]]), minlength=len(vertices))
    kind = np.where(ends == 0, 0, np.where(ends == 2, 1, 2)).astype(np.int8)
    # a line that turns sharply at a corner is kept there as well
    on = np.flatnonzero(kind == 1)
    if len(on):
        total = np.zeros((len(vertices), 3))
        along = vertices[end[edge]] - vertices[start[edge]]
        along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-300)
        np.add.at(total, start[edge], along)
        np.subtract.at(total, end[edge], along)
        # two unit vectors away from the corner: straight on they cancel
        kind[on[np.linalg.norm(total[on], axis=1) > 2 * np.sin(np.radians(45) / 2)]] = 2
    return twin, line, kind


def edge_for(area: float, count: int) -> float:
    """Length of edges of so many equilateral triangles of an area together."""
    return float(np.sqrt(4 * area / (np.sqrt(3) * count)))


def count_for(area: float, edge: float) -> float:
    """How many equilateral triangles with edges of a length an area takes."""
    return area / (np.sqrt(3) / 4 * edge**2)


def remeshed(
    vertices: Array,
    faces: Faces,
    edge: float = 0.0,
    count: int = 0,
    adaptive: bool = False,
    sharp: float = np.pi,
    check: Callable[[], None] = lambda: None,
) -> tuple[Array, Faces]:
    """A mesh of even triangles on the same surface.

    Parameters
    ----------
    vertices : (N, 3), faces : (M, 3)
    edge : float
        Length wanted, in world units; or
    count : int
        triangles wanted, met within a few percent.
    adaptive : bool
        Shorter edges where the surface bends.
    sharp : float
        Edges that bend by more (radians) are kept; pi keeps borders alone.
    check : callable
        Called between parts of the work; may raise to cancel.

    Raises
    ------
    PlainError
        When neither length nor count is given, or there would be too many triangles.
    """
    vertices, faces = cut_apart(vertices, without_doubles(vertices, without_degenerate(vertices, faces)))
    area = float(face_areas(vertices, faces).sum())
    if not len(faces) or area <= 0:
        raise PlainError("There is no surface to make triangles on.", "Take another mesh.")
    if count <= 0 and edge <= 0:
        raise PlainError(
            "Neither a length nor a count is given.", "Say how long edges, or how many triangles there shall be."
        )
    length = edge if edge > 0 else edge_for(area, max(count, 4))
    if count_for(area, length) > MOST:
        raise PlainError(
            say("That would be more than {count} million triangles.", count=MOST // 1_000_000), "Take longer edges."
        )
    middle = vertices.mean(0)
    given = _Given(vertices - middle, faces)
    start = (given.vertices, faces)
    most = STARTING * count_for(area, length)
    if len(faces) > most and sharp >= np.pi:
        light = decimate(*start, int(most))
        # of few triangles some are lost where the form is rough: then from all of them
        if len(open_edges(light[1])) <= len(open_edges(faces)):
            start = light
    for again in range(4):
        v, f = _even(*start, length, adaptive, sharp, given, check)
        if edge > 0 or abs(len(f) - count) <= 0.03 * count or again == 3:
            break
        length *= float(np.clip(np.sqrt(len(f) / count), 0.5, 2.0))
    return v + middle, f


def _even(
    vertices: Array, faces: Faces, length: float, adaptive: bool, sharp: float, given: _Given, check: Callable[[], None]
) -> tuple[Array, Faces]:
    twin, line, kind = lines_of(vertices, faces, sharp)
    out = np.full(len(vertices), -1, np.int64)
    out[faces.ravel()] = np.arange(3 * len(faces))
    wanted = _lengths(vertices, faces, length) if adaptive else np.full(len(vertices), length)
    s = _State(
        vertices.copy(), faces.astype(np.int64).copy(), twin, line, kind, out, wanted,
        np.array([len(vertices), len(faces)]),
    ).grown()  # fmt: skip
    for _ in range(ROUNDS):
        while True:
            check()
            split, full = kernels.split_long(s.v, s.faces, s.twin, s.line, s.kind, s.out, s.wanted, s.count, LONG)
            if full:
                s = s.grown()
            elif not split:
                break
        while True:
            check()
            gone = kernels.collapse_short(
                s.v, s.faces, s.twin, s.line, s.kind, s.out, s.wanted, s.count, SHORT, LONG, TURN
            )
            s = _tidy(s)
            # the last few are not worth another pass over all
            if gone <= len(s.faces) // 200:
                break
        kernels.turn_edges(s.v, s.faces, s.twin, s.line, s.kind, s.out, s.count, TURN)
        _relax(s, given)
    v, f, _ = compacted(s.v[: s.count[0]], s.faces[: s.count[1]][s.faces[: s.count[1], 0] >= 0])
    return v, without_degenerate(v, f)


def _tidy(s: _State) -> _State:
    """Without faces and vertices that are gone."""
    live = np.flatnonzero(s.faces[: s.count[1], 0] >= 0)
    number = np.full(len(s.faces) + 1, -1, np.int64)
    number[live] = np.arange(len(live))
    faces = s.faces[live]
    used = np.zeros(len(s.v), bool)
    used[faces.ravel()] = True
    kept = np.flatnonzero(used)
    renamed = np.cumsum(used) - 1
    corners = (3 * live[:, None] + np.arange(3)).ravel()

    def moved(h: Faces) -> Faces:
        return np.where(h < 0, -1, 3 * number[h // 3] + h % 3)

    return _State(
        s.v[kept], renamed[faces], moved(s.twin[corners]), s.line[corners], s.kind[kept], moved(s.out[kept]),
        s.wanted[kept], np.array([len(kept), len(live)]),
    ).grown(1.3)  # fmt: skip


def _relax(s: _State, given: _Given) -> None:
    """Move corners within the surface towards the middle of their neighbours, and back onto the mesh that was given."""
    count = int(s.count[0])
    f = s.faces[: s.count[1]]
    f = f[f[:, 0] >= 0]
    v = s.v[:count]
    normals = vertex_normals(v, f)
    # neighbours weigh by area: where triangles are large, corners are drawn together
    area = np.repeat(face_areas(v, f), 3)
    weight = np.bincount(f.ravel(), area, count)
    center = v[f].mean(1)
    middle = np.stack([np.bincount(f.ravel(), area * np.repeat(center[:, k], 3), count) for k in range(3)], 1)
    move = middle / np.maximum(weight, 1e-300)[:, None] - v
    move -= (move * normals).sum(1, keepdims=True) * normals
    free = (s.kind[:count] == 0) & (weight > 0)
    s.v[:count][free] = given.onto(v[free] + 0.7 * move[free])


def _lengths(vertices: Array, faces: Faces, length: float) -> Array:
    """Length of edges wanted at each vertex (N,): such that chords leave the surface equally far everywhere."""
    bend = largest_curvature(vertices, faces)
    # of an even mesh on the typical bend of this surface
    error = length**2 * float(np.median(bend)) / 8
    with np.errstate(divide="ignore"):
        own = np.sqrt(np.maximum(6 * error / np.maximum(bend, 1e-300) - 3 * error**2, 0))
    own = np.clip(own, FINEST * length, COARSEST * length)
    # no corner wants much more than its neighbours do
    _, edges = edge_faces(faces)
    far = np.linalg.norm(vertices[edges[:, 0]] - vertices[edges[:, 1]], axis=1)
    for _ in range(8):
        np.minimum.at(own, edges[:, 0], own[edges[:, 1]] + GROWTH * far)
        np.minimum.at(own, edges[:, 1], own[edges[:, 0]] + GROWTH * far)
    # as many triangles as an even mesh has
    area = np.bincount(faces.ravel(), np.repeat(face_areas(vertices, faces) / 3, 3), len(vertices))
    return np.asarray(own * np.sqrt((area / own**2).sum() / (area.sum() / length**2)))
