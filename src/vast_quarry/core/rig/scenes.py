"""The rig's scenes: a carved milestone on rough ground, a clay roof finial on a turntable, a well-head, a yard's corner; and a plate to
measure by.

Bodies are signed distance functions (:mod:`.solids`) meshed by marching cubes, then displaced along their normals by noise, so that
relief, like colour, has detail at several sizes. Everything is in metres, Z up, the ground at z = 0.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.plan.mats import Mat
from vast_quarry.core.pose import Similarity, rotation_from_vector
from vast_quarry.core.rig import paint
from vast_quarry.core.rig.noise import fbm_many
from vast_quarry.core.rig.solids import (
    finial_distance,
    mesh_of_distance,
    milestone_distance,
    well_head_distance,
    yard_distance,
)
from vast_quarry.core.surface.mesh import vertex_normals

Array = NDArray[np.float64]


@dataclass
class Body:
    """One surface of a scene: vertices (N, 3), faces (M, 3), a material, and the light baked at its vertices (N,)."""

    vertices: Array
    faces: NDArray[np.int64]
    material: int
    light: NDArray[np.float32] = field(default_factory=lambda: np.zeros(0, np.float32))


@dataclass
class Scene:
    """What is photographed. ``bodies[0]`` is the subject."""

    name: str
    bodies: list[Body]
    turntable: bool
    seed: int
    z_cut: float
    #: backdrop or sky colour, linear RGB, when a ray meets nothing
    sky: tuple[float, float, float]
    #: a printed sheet (rows, columns) as reflectance; where its first pixel lies (x, y), and pixels per metre
    sheet: NDArray[np.float32] = field(default_factory=lambda: np.ones((2, 2), np.float32))
    sheet_at: Array = field(default_factory=lambda: np.array([0.0, 0.0, 1.0]))
    #: how much the subject mirrors in any case, of what a glossy one does
    gloss: float = 0.0
    #: from the subject to the room that it stands in: other than nothing once it was tipped over
    room: Similarity = field(default_factory=lambda: Similarity(1.0, np.eye(3), np.zeros(3)))

    @property
    def subject(self) -> Body:
        return self.bodies[0]

    @property
    def size(self) -> Array:
        """Extent of the subject above ground along x, y, z of the room in metres."""
        v = self.room.points(self.subject.vertices)
        low, high = v.min(0), v.max(0)
        return high - np.maximum(low, [-np.inf, -np.inf, 0.0])


def displaced(v: Array, f: NDArray[np.int64], waves: list[tuple[float, float]], seed: int) -> Array:
    """Vertices pushed along their normals by noise: waves (length, height) in metres."""
    n = vertex_normals(v, f)
    for i, (scale, height) in enumerate(waves):
        v = v + n * (height * fbm_many(v, scale, 3, 0.55, seed + 101 * i))[:, None]
    return v


def _subdivided(v: Array, f: NDArray[np.int64]) -> tuple[Array, NDArray[np.int64]]:
    """Each triangle into four at its edge midpoints."""
    edges = np.sort(np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]]), axis=1)
    unique, index = np.unique(edges, axis=0, return_inverse=True)
    m = index.reshape(3, -1) + len(v)
    v = np.concatenate([v, v[unique].mean(1)])
    a, b, c = f.T
    parts = [[a, m[0], m[2]], [m[0], b, m[1]], [m[2], m[1], c], [m[0], m[1], m[2]]]
    return v, np.concatenate([np.stack(t, 1) for t in parts])


def _quads(n: int) -> NDArray[np.int64]:
    """Triangles of a grid of n x n vertices."""
    i = np.arange(n * n).reshape(n, n)
    quads = np.stack([i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]], -1).reshape(-1, 4)
    return np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])


def grid(half: float, cell: float, height: Callable[[Array], Array]) -> tuple[Array, NDArray[np.int64]]:
    """A square of ground about the origin whose height is a function of its places (N, 3)."""
    n = int(2 * half / cell) + 1
    axis = np.linspace(-half, half, n)
    x, y = np.meshgrid(axis, axis, indexing="ij")
    p = np.stack([x, y, np.zeros_like(x)], -1).reshape(-1, 3)
    p[:, 2] = height(p)
    return p, _quads(n)


def rough_ground(p: Array, seed: int) -> Array:
    """Heights (N,) of rough grass at places (N, 3)."""
    h = 0.007 * fbm_many(p, 0.11, 3, 0.5, seed + 7) + 0.004 * fbm_many(p, 0.018, 2, 0.6, seed + 8)
    return h - h.mean()


def milestone(seed: int = 1, cell: float = 0.002, fine: bool = True) -> Scene:
    """Carved sandstone milestone, about 0.6 m high, on rough grass-like ground."""
    v, f = mesh_of_distance(milestone_distance, np.array([-0.21, -0.15, -0.05]), np.array([0.21, 0.15, 0.66]), cell)
    if fine:
        v, f = _subdivided(v, f)
    v = displaced(v, f, [(0.09, 0.004), (0.022, 0.0016), (0.006, 0.0006)], seed)
    gv, gf = grid(2.2, cell * 4, lambda p: rough_ground(p, seed))
    bodies = [Body(v, f, paint.SANDSTONE), Body(gv, gf, paint.GRASS)]
    return Scene("milestone", bodies, False, seed, 0.02, (0.62, 0.70, 0.80))


def finial(seed: int = 2, cell: float = 0.0012, fine: bool = True) -> Scene:
    """Fired-clay roof finial, about 0.37 m high, on a turntable before a still backdrop."""
    v, f = mesh_of_distance(finial_distance, np.array([-0.14, -0.14, -0.01]), np.array([0.14, 0.14, 0.39]), cell)
    if fine:
        v, f = _subdivided(v, f)
    v = displaced(v, f, [(0.05, 0.0022), (0.012, 0.0009), (0.0035, 0.0004)], seed)
    v[:, 2] -= v[:, 2].min()
    n = 160
    a = np.arange(n) * 2 * np.pi / n
    disc = np.concatenate([[[0, 0, -1e-4]], np.stack([0.17 * np.cos(a), 0.17 * np.sin(a), np.full(n, -1e-4)], 1)])
    i = np.arange(n)
    df = np.stack([np.zeros(n, int), i + 1, (i + 1) % n + 1], 1)
    return Scene("finial", [Body(v, f, paint.CLAY), Body(disc, df, paint.FELT)], True, seed, 0.006, (0.30, 0.36, 0.44))


def well_head(seed: int = 3, cell: float = 0.005, fine: bool = True) -> Scene:
    """Round stone well-head, 0.7 m high and 0.88 m across, in rough grass: deep inside, holes through its wall."""
    v, f = mesh_of_distance(well_head_distance, np.array([-0.48, -0.48, -0.60]), np.array([0.48, 0.48, 0.74]), cell)
    if fine:
        v, f = _subdivided(v, f)
    v = displaced(v, f, [(0.12, 0.005), (0.03, 0.002), (0.008, 0.0007)], seed)
    gv, gf = grid(4.0, cell * 4, lambda p: rough_ground(p, seed))
    open_ = (np.hypot(gv[gf, 0], gv[gf, 1]) < 0.36).any(1)  # no ground across the shaft
    bodies = [Body(v, f, paint.SANDSTONE), Body(gv, gf[~open_], paint.GRASS)]
    return Scene("well-head", bodies, False, seed, 0.02, (0.62, 0.70, 0.80))


def yard(seed: int = 4, cell: float = 0.010, fine: bool = True) -> Scene:
    """The corner of a yard, 3 x 2.4 m with walls 1.7 m high: a place, not an object."""
    v, f = mesh_of_distance(yard_distance, np.array([-1.75, -1.45, -0.16]), np.array([1.75, 1.45, 1.75]), cell)
    if fine:
        v, f = _subdivided(v, f)
    v = displaced(v, f, [(0.30, 0.008), (0.07, 0.004), (0.02, 0.0015)], seed)
    gv, gf = grid(9.0, cell * 8, lambda p: rough_ground(p, seed) - 0.06)
    bodies = [Body(v, f, paint.SANDSTONE), Body(gv, gf, paint.GRASS)]
    return Scene("yard", bodies, False, seed, -1.0, (0.62, 0.70, 0.80))


#: grooves of the plate: where each runs down its face (x) and how wide it is (m); all are V-shaped and as deep
GROOVES = tuple((-0.075 + 0.03 * k, 0.001 * w) for k, w in enumerate((2, 3, 4, 6, 8, 12)))
GROOVE_DEPTH = 0.001


def plate(seed: int = 5, cell: float = 0.00025, fine: bool = True) -> Scene:
    """A slab of sandstone, 0.2 m wide and 0.16 m high, with grooves of known width and depth in its front: what is kept of fine carving."""
    del fine  # the grooves are in the grid from the start, whatever the photos show of it
    cell = min(cell, 0.00025)
    width, height, thick = 0.20, 0.16, 0.03
    columns, rows = round(width / cell) + 1, round(height / cell) + 1
    x, z = np.meshgrid(np.linspace(-width / 2, width / 2, columns), np.linspace(0, height, rows), indexing="ij")
    groove = sum(np.maximum(1 - np.abs(x - at) / (wide / 2), 0) for at, wide in GROOVES) * GROOVE_DEPTH
    front = np.stack([x, groove - thick / 2, z], -1).reshape(-1, 3)
    front[:, 1] += 0.00008 * fbm_many(front, 0.002, 3, 0.55, seed)
    at = np.arange(columns * rows).reshape(columns, rows)
    quads = np.stack([at[:-1, :-1], at[1:, :-1], at[1:, 1:], at[:-1, 1:]], -1).reshape(-1, 4)
    # the rim once round, led back to the other face
    rim = np.concatenate([at[:-1, 0], at[-1, :-1], at[:0:-1, -1], at[0, :0:-1]])
    behind = front[rim] * [1, 0, 1] + [0, thick / 2, 0]
    n, more = len(rim), len(front) + np.arange(len(rim))
    sides = np.stack([rim, more, np.roll(more, -1), np.roll(rim, -1)], 1)
    middle = len(front) + n
    back = np.stack([more, np.full(n, middle), np.roll(more, -1)], 1)
    faces = [quads[:, [0, 1, 2]], quads[:, [0, 2, 3]], sides[:, [0, 1, 2]], sides[:, [0, 2, 3]], back]
    v = np.concatenate([front, behind, [[0, thick / 2, height / 2]]])
    gv, gf = grid(0.8, 0.004, lambda p: rough_ground(p, seed) * 0.3)
    return Scene("plate", [Body(v, np.concatenate(faces), paint.SANDSTONE), Body(gv, gf, paint.GRASS)], False, seed, 0.01, (0.62, 0.70, 0.80))  # fmt: skip


def tip_over(scene: Scene, degrees: float) -> None:
    """Tip the subject of a scene about its x axis and put it down in the middle again.

    The subject's own coordinates stay, so that photos before and after have one truth: what else is there, and the room
    with its light, turn about it.
    """
    turn = rotation_from_vector(np.radians(degrees) * np.array([1.0, 0.0, 0.0]))
    v = scene.subject.vertices @ turn.T
    low, high = v.min(0), v.max(0)
    scene.room = Similarity(1.0, turn, -np.array([(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, low[2]]))
    back = scene.room.inverse()
    for body in scene.bodies[1:]:
        body.vertices = back.points(body.vertices)


#: pixels per millimetre of a printed sheet
SHEET_PER_MM = 3.0


def lay_sheet(scene: Scene, mat: Mat, at: tuple[float, float], height: float = 0.004) -> None:
    """Lay a printed marker mat on the ground of a scene, its middle at ``at``, flat at a height above z = 0 (m)."""
    w, h = mat.paper
    # drawn four times as large: what fills a polygon takes its edge along
    k = 4 * SHEET_PER_MM
    picture = np.full((int(h * SHEET_PER_MM) * 4, int(w * SHEET_PER_MM) * 4), 235, np.uint8)

    def pixels(mm: Array) -> NDArray[np.int32]:
        # with four bits of fraction, as fillPoly takes them
        xy = np.stack([mat.middle[0] + mm[:, 0], h - mat.middle[1] - mm[:, 1]], 1) * k - 0.5
        return np.round(xy * 16).astype(np.int32)

    for shape, dark in mat.shapes:
        cv2.fillPoly(picture, [pixels(shape)], int(235 - 215 * dark), cv2.LINE_AA, shift=4)
    for m in mat.markers:
        left, top = m.corners[0]
        cell = (m.corners[1, 0] - left) / len(m.cells)
        for j, row in enumerate(m.cells):
            for i, black in enumerate(row):
                if black:
                    a, b = left + i * cell, top - j * cell
                    square = np.array([[a, b], [a + cell, b], [a + cell, b - cell], [a, b - cell]])
                    cv2.fillPoly(picture, [pixels(square)], 20, cv2.LINE_AA, shift=4)
    k = SHEET_PER_MM
    picture = np.asarray(cv2.resize(picture, None, fx=0.25, fy=0.25, interpolation=cv2.INTER_AREA), np.uint8)
    scene.sheet = np.asarray((picture / 255.0) ** 2.2 * 0.8, np.float32)
    low = np.array(at) - np.array(mat.middle) / 1000
    scene.sheet_at = np.array([low[0] + 0.0005 / k, low[1] + h / 1000 - 0.0005 / k, 1000 * k])
    n = 40
    x, y = np.meshgrid(low[0] + np.linspace(0, w / 1000, n), low[1] + np.linspace(0, h / 1000, n), indexing="ij")
    v = np.stack([x, y, np.full_like(x, height)], -1).reshape(-1, 3)
    scene.bodies.append(Body(v, _quads(n), paint.PRINT))
