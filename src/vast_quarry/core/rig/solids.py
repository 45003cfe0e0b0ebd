"""Shapes of the rig's subjects as signed distance functions (metres, Z up), and meshes of them.

Negative inside. Parts are joined by the least and cut by the greatest of two distances.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from skimage.measure import marching_cubes

Array = NDArray[np.float64]


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


def milestone_distance(p: Array) -> Array:
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


def finial_distance(p: Array) -> Array:
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


def box_distance(p: Array, low: tuple[float, float, float], high: tuple[float, float, float], r: float = 0.0) -> Array:
    """Distance to a box with edges rounded by ``r``."""
    lo, hi = np.array(low) + r, np.array(high) - r
    q = np.abs(p - (lo + hi) / 2) - (hi - lo) / 2
    return np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(1), 0) - r


def well_head_distance(p: Array) -> Array:
    """A round well-head of stone: deep inside, two holes through its wall, a moulded rim, a groove worn by the rope."""
    x, y, z = p[:, 0], p[:, 1], p[:, 2]
    r, angle = np.hypot(x, y), np.arctan2(y, x)
    heights = np.array([-0.6, 0.0, 0.04, 0.08, 0.12, 0.50, 0.55, 0.60, 0.66, 0.70])
    outer = np.interp(z, heights, [0.44, 0.44, 0.44, 0.42, 0.38, 0.36, 0.38, 0.42, 0.43, 0.41])
    outer = outer + 0.008 * np.cos(8 * angle) * np.exp(-(((z - 0.30) / 0.12) ** 2))
    wall = np.maximum((r - outer) * 0.8, np.maximum(z - 0.70, -0.55 - z))
    shaft = np.maximum(r - 0.27 - 0.01 * np.cos(5 * angle + 20 * z), -0.45 - z)
    d = np.maximum(wall, -shaft)
    hole = np.hypot(y, z - 0.34) - 0.055  # right through, for a bar
    d = np.maximum(d, -hole)
    rope = np.hypot(x - 0.05, z - 0.71) - 0.022
    d = np.maximum(d, -np.maximum(rope, -y - 0.0 * x + 0.1))
    # joints between the stones
    joint = np.minimum(np.abs(((z + 0.02) % 0.17) - 0.085), np.abs(np.sin(3 * angle)) * 0.12) - 0.004
    near = np.abs(r - outer) - 0.008
    return np.maximum(d, -np.maximum(joint, near))


def yard_distance(p: Array) -> Array:
    """A yard's corner, 3 x 2.4 m, walls 1.7 m high to the left (-x) and at the back (+y): a trough, a bench, a niche."""
    x, y, z = p[:, 0], p[:, 1], p[:, 2]
    floor = box_distance(p, (-1.7, -1.4, -0.12), (1.7, 1.4, 0.0))
    left = box_distance(p, (-1.7, -1.4, -0.1), (-1.45, 1.4, 1.7), 0.02)
    back = box_distance(p, (-1.7, 1.15, -0.1), (1.7, 1.4, 1.7), 0.02)
    walls = np.minimum(left, back)
    # courses of stone in both walls
    course = (z % 0.24) - 0.12
    shift = 0.22 * (np.floor(z / 0.24) % 2)
    along = np.where(back < left, x, y)
    upright = ((along + shift) % 0.44) - 0.22
    joint = np.minimum(0.12 - np.abs(course), 0.22 - np.abs(upright)) - 0.012
    walls = np.maximum(walls, -np.maximum(joint, -walls - 0.015))
    niche = np.maximum(np.hypot(x - 0.4, np.maximum(z - 1.05, 0)) - 0.22, np.maximum(0.75 - z, 1.02 - y))
    walls = np.maximum(walls, -np.maximum(niche, y - 1.29))
    trough = np.maximum(
        box_distance(p, (-1.35, -0.75, 0.0), (-0.85, 0.15, 0.42), 0.03),
        -box_distance(p, (-1.27, -0.67, 0.12), (-0.93, 0.07, 0.6), 0.03),
    )
    bench = np.minimum(
        box_distance(p, (0.25, 0.70, 0.36), (1.35, 1.05, 0.44), 0.015),
        np.minimum(
            box_distance(p, (0.35, 0.75, 0.0), (0.47, 1.02, 0.38)),
            box_distance(p, (1.13, 0.75, 0.0), (1.25, 1.02, 0.38)),
        ),
    )
    barrel = np.maximum(
        np.hypot(x + 0.75, y - 0.75) - (0.25 + 0.05 * np.sin(np.pi * np.clip(z / 0.75, 0, 1))), np.maximum(z - 0.75, -z)
    )
    paving = (
        np.minimum(0.25 - np.abs((x % 0.5) - 0.25), 0.25 - np.abs(((y + 0.25 * (np.floor(x / 0.5) % 2)) % 0.5) - 0.25))
        - 0.012
    )
    floor = np.maximum(floor, -np.maximum(paving, -floor - 0.012))
    return np.minimum.reduce([floor, walls, trough, bench, barrel])


def _limb(p: Array, a: tuple[float, float, float], b: tuple[float, float, float], ra: float, rb: float) -> Array:
    """Distance to a limb from a to b that is ``ra`` thick at one end and ``rb`` at the other."""
    start, along = np.array(a), np.array(b) - np.array(a)
    t = np.clip(((p - start) @ along) / float(along @ along), 0.0, 1.0)
    return np.linalg.norm(p - start - t[:, None] * along, axis=1) - (ra + t * (rb - ra))


def _grown(a: Array, b: Array, k: float) -> Array:
    """The nearer of two distances, led over smoothly within ``k`` (polynomial smooth minimum)."""
    h = np.clip(0.5 + 0.5 * (b - a) / k, 0.0, 1.0)
    return np.asarray(b * (1 - h) + a * h - k * h * (1 - h))


def hound_distance(p: Array) -> Array:
    """A hound that stands on four legs, head to +x, cut flat at the paws."""
    d = _limb(p, (-0.13, 0.0, 0.185), (0.09, 0.0, 0.20), 0.050, 0.058)
    for x, y, foot, thick in ((0.10, 0.036, 0.115, 0.017), (0.10, -0.036, 0.10, 0.017), (-0.14, 0.036, -0.16, 0.018), (-0.14, -0.036, -0.145, 0.018)):  # fmt: skip
        leg = _limb(p, (x, y, 0.17), (foot, y, 0.012), thick + 0.008, thick - 0.004)
        paw = _limb(p, (foot, y, 0.008), (foot + 0.03, y, 0.008), 0.014, 0.011)
        d = _grown(d, _grown(leg, paw, 0.01), 0.018)
    d = _grown(d, _limb(p, (0.09, 0.0, 0.22), (0.145, 0.0, 0.275), 0.040, 0.032), 0.02)
    d = _grown(d, _limb(p, (0.145, 0.0, 0.28), (0.225, 0.0, 0.262), 0.034, 0.016), 0.012)
    for y in (0.028, -0.028):
        d = _grown(d, _limb(p, (0.135, y, 0.295), (0.105, 1.5 * y, 0.27), 0.010, 0.008), 0.006)
    d = _grown(d, _limb(p, (-0.17, 0.0, 0.21), (-0.22, 0.0, 0.27), 0.012, 0.006), 0.012)
    return np.maximum(d, -p[:, 2])


def jar_distance(p: Array) -> Array:
    """A stone jar about 0.22 m high, its axis at x = 0.18."""
    r, z = np.hypot(p[:, 0] - 0.18, p[:, 1]), p[:, 2]
    outer = np.interp(z, [0.0, 0.02, 0.09, 0.16, 0.185, 0.20, 0.22], [0.055, 0.06, 0.088, 0.07, 0.05, 0.055, 0.06])
    body = np.maximum((r - outer) * 0.8, np.maximum(-z, z - 0.22))
    return np.maximum(body, -np.maximum(r - 0.042, 0.17 - z))
