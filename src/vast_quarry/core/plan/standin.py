"""Stand-in shapes for a subject that is not there yet, cut into patches of about one size.

A patch is a triangle; what the plan says of coverage it says of patches. Lengths are in metres, z is up, and a
shape stands on z = 0 with its middle over the origin.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.surface.decimate import decimate
from vast_quarry.core.surface.mesh import face_areas
from vast_quarry.core.words import Said, say

Array = NDArray[np.float64]
Shape = Literal["box", "cylinder", "sphere", "figure", "panel", "ground", "corner", "room", "mesh"]

#: patches of a stand-in when nothing else is said
PATCHES = 4000
#: a mesh with more faces is made lighter before it stands in
MOST = 20_000


@dataclass(frozen=True)
class StandIn:
    """Triangles that stand in for a subject.

    Attributes
    ----------
    vertices : (N, 3), faces : (M, 3)
    centers, normals : (M, 3)
    areas : (M,)
    wanted : (M,) bool
        Which patches are to be seen: not those that lie on the ground.
    """

    vertices: Array
    faces: NDArray[np.int64]
    centers: Array
    normals: Array
    areas: Array
    wanted: NDArray[np.bool_]

    @property
    def low(self) -> Array:
        """Lowest corner of its extent (3,)."""
        return np.asarray(self.vertices.min(0))

    @property
    def high(self) -> Array:
        """Highest corner of its extent (3,)."""
        return np.asarray(self.vertices.max(0))

    @property
    def middle(self) -> Array:
        """Middle of its extent (3,)."""
        return (self.low + self.high) / 2

    @property
    def size(self) -> Array:
        """Extent (3,)."""
        return self.high - self.low


def standin_of(vertices: Array, faces: NDArray[np.int64], underside: bool = False) -> StandIn:
    """Patches of a mesh whose faces turn outwards."""
    v = np.asarray(vertices, float)
    f = np.asarray(faces, np.int64)
    corner = v[f]
    n = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    length = np.linalg.norm(n, axis=1)
    keep = length > 1e-12 * max(1e-12, float(length.max(initial=0.0)))
    f, corner, n, length = f[keep], corner[keep], n[keep], length[keep]
    centers, normals = corner.mean(1), n / length[:, None]
    height = float(np.ptp(v[:, 2]))
    on_ground = (corner[..., 2].max(1) < v[:, 2].min() + 0.01 * height + 1e-9) & (normals[:, 2] < -0.9)
    wanted = np.ones(len(f), bool) if underside else ~on_ground
    return StandIn(v, f, centers, normals, face_areas(v, f), wanted)


def _sheet(corner: Array, along: Array, up: Array, edge: float) -> tuple[Array, NDArray[np.int64]]:
    """A rectangle as triangles with edges of about one length; it faces ``along x up``."""
    n = max(1, round(float(np.linalg.norm(along)) / edge))
    m = max(1, round(float(np.linalg.norm(up)) / edge))
    s, t = np.meshgrid(np.linspace(0, 1, n + 1), np.linspace(0, 1, m + 1), indexing="ij")
    v = corner + s.reshape(-1, 1) * along + t.reshape(-1, 1) * up
    a = (np.arange(n)[:, None] * (m + 1) + np.arange(m)).ravel()
    b, c, d = a + m + 1, a + m + 2, a + 1
    return v, np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])


Mesh = tuple[Array, NDArray[np.int64]]


def _joined(parts: list[Mesh]) -> Mesh:
    start = np.cumsum([0, *[len(v) for v, _ in parts]])
    return np.concatenate([v for v, _ in parts]), np.concatenate([f + k for (_, f), k in zip(parts, start)])


def _box(size: Array, patches: int) -> Mesh:
    x, y, z = size
    edge = float(np.sqrt(2 * (x * y + y * z + z * x) / patches * 2))
    ex, ey, ez = np.diag(size)
    low = np.array([-x / 2, -y / 2, 0.0])
    return _joined([
        _sheet(low, ex, ez, edge), _sheet(low + ex + ey, -ex, ez, edge), _sheet(low + ex, ey, ez, edge),
        _sheet(low + ey, -ey, ez, edge), _sheet(low + ez, ex, ey, edge), _sheet(low + ey, ex, -ey, edge),
    ])  # fmt: skip


def _cylinder(size: Array, patches: int) -> Mesh:
    """A can: a sheet rolled up, with rings of a lid on both ends."""
    r = float(size[0] + size[1]) / 4
    edge = float(np.sqrt((2 * np.pi * r * size[2] + 2 * np.pi * r**2) / patches * 2))
    wall, f = _sheet(np.zeros(3), np.array([2 * np.pi * r, 0, 0]), np.array([0, 0, size[2]]), edge)
    turn = wall[:, 0] / r
    parts = [(np.stack([np.cos(turn) / 2, np.sin(turn) / 2, wall[:, 2] / size[2]], 1), f)]
    lid, g = _sheet(np.zeros(3), np.array([2 * np.pi * r, 0, 0]), np.array([0, r, 0]), edge)
    turn, inward = lid[:, 0] / r, 1 - lid[:, 1] / r
    top = np.stack([inward * np.cos(turn) / 2, inward * np.sin(turn) / 2, np.ones(len(lid))], 1)
    parts += [(top, g), (top * [1, 1, 0], g[:, ::-1])]
    v, f = _joined(parts)
    return v * size, f


def _ball(patches: int) -> Mesh:
    """A ball of diameter one about the origin: a sheet over longitude and latitude."""
    edge = float(np.sqrt(np.pi / (patches / 2) * 1.57))  # of a unit ball's 4 pi, in triangles, some lost at the poles
    sheet, f = _sheet(np.zeros(3), np.array([2 * np.pi, 0, 0]), np.array([0, np.pi, 0]), 2 * edge)
    turn, rise = sheet[:, 0], sheet[:, 1] - np.pi / 2
    return np.stack([np.cos(rise) * np.cos(turn), np.cos(rise) * np.sin(turn), np.sin(rise)], 1) / 2, f


#: balls of a rough standing figure: middle and half axes as shares of width, depth and height
_FIGURE = np.array([
    [0.0, 0.25, 0.30, 0.36, 0.27], [0.0, 0.62, 0.36, 0.50, 0.24], [0.0, 0.91, 0.17, 0.36, 0.09],
    [-0.41, 0.58, 0.09, 0.22, 0.24], [0.41, 0.58, 0.09, 0.22, 0.24],
])  # fmt: skip


def _figure(size: Array, patches: int) -> Mesh:
    """A rough standing figure: legs in one, trunk, head, arms at its sides; what lies within another part is left out."""
    middle = np.stack([_FIGURE[:, 0], np.zeros(5), _FIGURE[:, 1]], 1) * size
    half = _FIGURE[:, 2:] * size
    ball, faces = _ball(patches // 4)
    parts = []
    for k in range(5):
        v = 2 * ball * half[k] + middle[k]
        center = v[faces].mean(1)
        inside = [((((center - middle[j]) / half[j]) ** 2).sum(1) < 1) for j in range(5) if j != k]
        kept = faces[~np.any(inside, axis=0)]
        v[:, 2] = np.maximum(v[:, 2], 0.0)
        parts.append((v, kept))
    return _joined(parts)


def _inner(size: Array, walls: str, patches: int) -> Mesh:
    """Floor and walls seen from inside: ``walls`` holds l (left, -x), b (back, +y), r and f."""
    x, y, z = size
    edge = float(np.sqrt((x * y + 2 * (x + y) * z) / patches * 2))
    ex, ey, ez = np.diag(size)
    low = np.array([-x / 2, -y / 2, 0.0])
    sheets = {
        "l": (low, ey, ez), "b": (low + ey, ex, ez), "r": (low + ex + ey, -ey, ez), "f": (low + ex, -ex, ez),
    }  # fmt: skip
    return _joined([_sheet(low, ex, ey, edge), *[_sheet(*sheets[w], edge) for w in walls]])


def make_standin(
    shape: Shape, width: float, depth: float, height: float, patches: int = PATCHES, underside: bool = False
) -> StandIn:
    """A stand-in of a shape and size in metres.

    ``width`` runs along x, ``depth`` along y, ``height`` along z; a panel is a wall that is seen from -y.

    Raises
    ------
    PlainError
        When a size is not more than nothing.
    """
    for pattern, value in (
        ("The width of the subject is {value} m.", width),
        ("The depth of the subject is {value} m.", depth),
        ("The height of the subject is {value} m.", height),
    ):
        if not (np.isfinite(value) and value > 0):
            raise PlainError(say(pattern, value=value), "It has to be more than nothing.")
    if shape == "panel":
        # one side only: a wall has no back that could be reached
        edge = float(np.sqrt(width * height / patches * 2))
        corner = np.array([-width / 2, -depth / 2, 0.0])
        v, f = _sheet(corner, np.array([width, 0, 0]), np.array([0, 0, height]), edge)
        return standin_of(v, f, underside=True)
    size = np.array([width, depth, height])
    if shape in ("ground", "corner", "room"):
        v, f = _inner(size, {"ground": "", "corner": "lb", "room": "lbrf"}[shape], patches)
        return standin_of(v, f, underside=True)
    if shape == "box":
        v, f = _box(size, patches)
    elif shape == "cylinder":
        v, f = _cylinder(size, patches)
    elif shape == "sphere":
        v, f = _ball(patches)
        v = (v + np.array([0, 0, 0.5])) * size
    elif shape == "figure":
        v, f = _figure(size, patches)
    else:
        raise PlainError(say("There is no stand-in called {shape}.", shape=shape))
    return standin_of(v, f, underside)


def standin_from_mesh(vertices: Array, faces: NDArray[np.int64], underside: bool = False) -> tuple[StandIn, list[Said]]:
    """A mesh file or an earlier version as a stand-in, with what there is to say about it.

    Raises
    ------
    PlainError
        When it holds no faces.
    """
    if len(faces) == 0 or not np.isfinite(vertices).all():
        raise PlainError("The mesh holds no usable faces.", "Export it as triangles and try again.")
    notes = []
    v, f = np.asarray(vertices, float), np.asarray(faces, np.int64)
    if len(f) > MOST:
        notes.append(say("The mesh has {count} faces; {most} of them are enough to stand in.", count=len(f), most=MOST))
        v, f = decimate(v, f, MOST)
    edges = np.sort(np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]]), axis=1)
    _, count = np.unique(edges, axis=0, return_counts=True)
    if (count == 1).any():
        notes.append(
            Said("The mesh is not closed: its open edges let sight lines through, and its insides count as surface.")
        )
    v = v - [*(v[:, :2].min(0) + v[:, :2].max(0)) / 2, v[:, 2].min()]
    return standin_of(v, f, underside), notes
