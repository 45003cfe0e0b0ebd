"""The rig's scenes: a carved milestone on rough ground, a clay roof finial on a turntable.

Bodies are signed distance functions meshed by marching cubes, then displaced along their normals by noise, so that
relief, like colour, has detail at several sizes. Everything is in metres, Z up, the ground at z = 0.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray
from skimage.measure import marching_cubes

from vast_quarry.core.rig import paint
from vast_quarry.core.rig.noise import fbm_many
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

    @property
    def subject(self) -> Body:
        return self.bodies[0]

    @property
    def size(self) -> Array:
        """Extent of the subject above ground along x, y, z in metres."""
        v = self.subject.vertices
        low, high = v.min(0), v.max(0)
        return high - np.maximum(low, [-np.inf, -np.inf, 0.0])


def mesh_of_distance(
    distance: Callable[[Array], Array], low: Array, high: Array, cell: float
) -> tuple[Array, NDArray[np.int64]]:
    """Marching cubes of a signed distance function over a box, evaluated slab by slab."""
    axes = [np.arange(low[a], high[a] + cell, cell) for a in range(3)]
    grid = np.empty([len(a) for a in axes], np.float32)
    for i, x in enumerate(axes[0]):
        y, z = np.meshgrid(axes[1], axes[2], indexing="ij")
        p = np.stack([np.full_like(y, x), y, z], -1).reshape(-1, 3)
        grid[i] = distance(p).reshape(y.shape)
    v, f, _, _ = marching_cubes(grid, 0.0, gradient_direction="descent", allow_degenerate=False)
    return v.astype(float) * cell + low, f.astype(np.int64)


def _segment_distance(p: Array, a: tuple[float, float], b: tuple[float, float]) -> Array:
    """Distance of points (N, 2) to a segment."""
    a_, b_ = np.asarray(a), np.asarray(b)
    d = b_ - a_
    t = np.clip(((p - a_) @ d) / max(float(d @ d), 1e-12), 0.0, 1.0)
    return np.linalg.norm(p - a_ - t[:, None] * d, axis=1)


#: strokes of the carving, in the x, z plane of the front face (metres)
_STROKES = [
    ((-0.10, 0.40), (-0.06, 0.30)), ((-0.02, 0.40), (-0.06, 0.30)),
    ((0.03, 0.40), (0.03, 0.30)), ((0.08, 0.40), (0.08, 0.30)),
    ((-0.09, 0.20), (0.08, 0.20)), ((0.08, 0.20), (0.045, 0.235)), ((0.08, 0.20), (0.045, 0.165)),
    ((-0.11, 0.46), (0.11, 0.46)), ((-0.11, 0.11), (0.11, 0.11)),
]  # fmt: skip


def _milestone_distance(p: Array) -> Array:
    x, y, z = p[:, 0], p[:, 1], p[:, 2]
    half_w, half_t, shoulder, r = 0.165, 0.10, 0.45, 0.022
    lean = 1.0 - 0.12 * np.clip(z, 0, 0.65)
    # front outline: a slab below, a half disc above
    qx = np.abs(x) / lean - (half_w - r)
    disc = np.hypot(x / lean, np.maximum(z - shoulder, 0.0)) - (half_w - r)
    outline = np.where(z < shoulder, qx, disc)
    thick = np.abs(y) / lean - (half_t - r)
    thick = np.maximum(thick, -0.045 + r - z)  # the foot, below the ground
    d = np.minimum(np.maximum(outline, thick), 0) + np.hypot(np.maximum(outline, 0), np.maximum(thick, 0)) - r
    # carved strokes on the front, a sunk roundel on the back
    xz = np.stack([x, z], 1)
    stroke = np.min([_segment_distance(xz, a, b) for a, b in _STROKES], axis=0)
    front = -half_t * lean
    groove = np.maximum(stroke - 0.009, np.abs(y - front) - 0.009 * (1 - stroke / 0.018))
    d = np.maximum(d, -groove)
    ring = np.abs(np.hypot(x, z - 0.36) - 0.075) - 0.011
    d = np.maximum(d, -np.maximum(ring, np.abs(y + front) - 0.008))
    rng = np.random.default_rng(5)
    for _ in range(14):  # chips along the edges
        c = np.array([rng.choice([-1, 1]) * half_w, rng.choice([-1, 1]) * half_t, rng.uniform(0.05, 0.5)])
        d = np.maximum(d, rng.uniform(0.018, 0.04) - np.linalg.norm(p - c * [1.0, 1.05, 1.0], axis=1))
    return d


def _finial_distance(p: Array) -> Array:
    x, y, z = p[:, 0], p[:, 1], p[:, 2]
    heights = np.array([-0.02, 0.0, 0.02, 0.05, 0.075, 0.10, 0.14, 0.19, 0.225, 0.245, 0.265, 0.30, 0.335, 0.36, 0.375])
    radii = np.array(
        [0.09, 0.09, 0.088, 0.065, 0.05, 0.052, 0.085, 0.10, 0.07, 0.038, 0.042, 0.062, 0.050, 0.022, -0.01]
    )
    angle = np.arctan2(y, x)
    lobes = 0.010 * np.cos(6 * angle + 9 * z) * np.exp(-(((z - 0.175) / 0.05) ** 2))
    flutes = 0.004 * np.cos(14 * angle) * np.exp(-(((z - 0.06) / 0.035) ** 2))
    leaf = 0.008 * np.cos(4 * angle - 14 * z) * np.exp(-(((z - 0.31) / 0.03) ** 2))
    r = np.interp(z, heights, radii) + lobes + flutes + leaf
    d = (np.hypot(x, y) - r) * 0.7
    return np.maximum(d, np.maximum(-z, z - 0.375))


def _displaced(v: Array, f: NDArray[np.int64], waves: list[tuple[float, float]], seed: int) -> Array:
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


def _grid(half: float, cell: float, height: Callable[[Array], Array]) -> tuple[Array, NDArray[np.int64]]:
    n = int(2 * half / cell) + 1
    axis = np.linspace(-half, half, n)
    x, y = np.meshgrid(axis, axis, indexing="ij")
    p = np.stack([x, y, np.zeros_like(x)], -1).reshape(-1, 3)
    p[:, 2] = height(p)
    i = np.arange(n * n).reshape(n, n)
    quads = np.stack([i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]], -1).reshape(-1, 4)
    return p, np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])


def _rough_ground(p: Array, seed: int) -> Array:
    h = 0.007 * fbm_many(p, 0.11, 3, 0.5, seed + 7) + 0.004 * fbm_many(p, 0.018, 2, 0.6, seed + 8)
    return h - h.mean()


def milestone(seed: int = 1, cell: float = 0.002, fine: bool = True) -> Scene:
    """Carved sandstone milestone, about 0.6 m high, on rough grass-like ground."""
    v, f = mesh_of_distance(_milestone_distance, np.array([-0.21, -0.15, -0.05]), np.array([0.21, 0.15, 0.66]), cell)
    if fine:
        v, f = _subdivided(v, f)
    v = _displaced(v, f, [(0.09, 0.004), (0.022, 0.0016), (0.006, 0.0006)], seed)
    gv, gf = _grid(2.2, cell * 4, lambda p: _rough_ground(p, seed))
    bodies = [Body(v, f, paint.SANDSTONE), Body(gv, gf, paint.GRASS)]
    return Scene("milestone", bodies, False, seed, 0.02, (0.62, 0.70, 0.80))


def finial(seed: int = 2, cell: float = 0.0012, fine: bool = True) -> Scene:
    """Fired-clay roof finial, about 0.37 m high, on a turntable before a still backdrop."""
    v, f = mesh_of_distance(_finial_distance, np.array([-0.14, -0.14, -0.01]), np.array([0.14, 0.14, 0.39]), cell)
    if fine:
        v, f = _subdivided(v, f)
    v = _displaced(v, f, [(0.05, 0.0022), (0.012, 0.0009), (0.0035, 0.0004)], seed)
    v[:, 2] -= v[:, 2].min()
    n = 160
    a = np.arange(n) * 2 * np.pi / n
    disc = np.concatenate([[[0, 0, -1e-4]], np.stack([0.17 * np.cos(a), 0.17 * np.sin(a), np.full(n, -1e-4)], 1)])
    i = np.arange(n)
    df = np.stack([np.zeros(n, int), i + 1, (i + 1) % n + 1], 1)
    return Scene("finial", [Body(v, f, paint.CLAY), Body(disc, df, paint.FELT)], True, seed, 0.006, (0.30, 0.36, 0.44))


SCENES: dict[str, Callable[..., Scene]] = {"milestone": milestone, "finial": finial}


def build_scene(name: str, seed: int, ground_sample: float) -> Scene:
    """A scene with relief fine enough for photos of the given GSD (metres per pixel)."""
    if name not in SCENES:
        raise ValueError(f"no scene called {name!r}; there are: {', '.join(SCENES)}")
    base = {"milestone": 0.002, "finial": 0.0012}[name]
    cell = base * float(np.clip(ground_sample / (base * 0.35), 1.0, 3.0))
    return SCENES[name](seed=seed, cell=cell, fine=cell < base * 1.5)


def blurred_backdrop(scene: Scene, width: int, height: int) -> NDArray[np.float32]:
    """A still, soft backdrop (height, width, 3) in linear RGB: what a camera on a tripod sees behind the turntable."""
    rng = np.random.default_rng(scene.seed + 900)
    small = rng.normal(0, 1, (9, 12, 3)).astype(np.float32)
    picture = cv2.resize(small, (width, height), interpolation=cv2.INTER_CUBIC)
    specks = cv2.GaussianBlur(rng.normal(0, 1, (height, width, 1)).astype(np.float32), (0, 0), 1.6)
    return np.asarray(scene.sky, np.float32) * (1 + 0.05 * picture + 0.10 * specks[..., None]).clip(0.2, 2)


__all__ = ["SCENES", "Body", "Scene", "blurred_backdrop", "build_scene", "finial", "milestone"]
