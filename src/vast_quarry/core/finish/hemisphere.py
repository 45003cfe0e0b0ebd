"""What is seen over a hemisphere from places of a surface: how open they are to the light, and how thick the body is behind them.

References
----------
Zhukov, S., Iones, A., Kronin, G. (1998). An ambient light illumination model. EGWR (occlusion: the cosine-weighted share of the
hemisphere that is open).
Shapira, L., Shamir, A., Cohen-Or, D. (2008). Consistent mesh partitioning and skeletonisation using the shape diameter function. The
Visual Computer 24 (thickness: mean length of rays into the body).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from vast_quarry.core.raycast import RayScene

Array = NDArray[np.float64]
Floats = NDArray[np.float32]
#: rays cast at a time
AT_ONCE = 2_000_000
#: thickness is looked for within this angle about straight inwards
INWARD = np.radians(30)


def directions(count: int, widest: float = np.pi / 2) -> Floats:
    """Directions (count, 3) about +z within an angle, as dense as the cosine with z: a spiral of equal shares (Fibonacci)."""
    k = np.arange(count) + 0.5
    # the share of the cosine-weighted cap within an angle grows as the squared sine
    sine = np.sin(widest) * np.sqrt(k / count)
    turn = np.pi * (3 - np.sqrt(5)) * k
    return np.stack([sine * np.cos(turn), sine * np.sin(turn), np.sqrt(1 - sine**2)], 1).astype(np.float32)


@njit(error_model="numpy", cache=True, parallel=True)
def _rays(points, normals, cone, spin, lift, out):
    """Rays (N K, 6) from places (N, 3) lifted off the surface: a cone about each normal, turned by an angle of its own.

    Two directions square to the normal: Duff, T. et al. (2017). Building an orthonormal basis, revisited. JCGT 6(1).
    """
    count = cone.shape[0]
    for i in prange(points.shape[0]):
        x, y, z = normals[i, 0], normals[i, 1], normals[i, 2]
        sign = np.float32(1.0) if z >= 0 else np.float32(-1.0)
        a = np.float32(-1.0) / (sign + z)
        b = x * y * a
        ux, uy, uz = np.float32(1.0) + sign * x * x * a, sign * b, -sign * x
        wx, wy, wz = b, sign + y * y * a, -y
        c, s = np.cos(spin[i]), np.sin(spin[i])
        for k in range(count):
            p = c * cone[k, 0] - s * cone[k, 1]
            q = s * cone[k, 0] + c * cone[k, 1]
            r = cone[k, 2]
            row = i * count + k
            out[row, 0] = points[i, 0] + lift * x
            out[row, 1] = points[i, 1] + lift * y
            out[row, 2] = points[i, 2] + lift * z
            out[row, 3] = p * ux + q * wx + r * x
            out[row, 4] = p * uy + q * wy + r * y
            out[row, 5] = p * uz + q * wz + r * z


def _in_parts(
    points: NDArray, normals: NDArray, cone: Floats, lift: float, check: Callable[[], None]
) -> Iterator[tuple[slice, Floats]]:
    """Some places at a time, and their rays."""
    spin = np.random.default_rng(0).uniform(0, 2 * np.pi, len(points)).astype(np.float32)
    step = max(1, AT_ONCE // len(cone))
    buffer = np.empty((min(step, len(points)) * len(cone), 6), np.float32)
    for first in range(0, len(points), step):
        check()
        here = slice(first, min(first + step, len(points)))
        rays = buffer[: (here.stop - first) * len(cone)]
        p, n = (np.ascontiguousarray(x[here], np.float32) for x in (points, normals))
        _rays(p, n, cone, spin[here], np.float32(lift), rays)
        yield here, rays


def openness(
    scene: RayScene, points: NDArray, normals: NDArray, rays: int, lift: float, far: float = np.inf,
    check: Callable[[], None] = lambda: None,
) -> Floats:  # fmt: skip
    """How much of the light from all over reaches places (N, 3) with unit normals: 1 is all, 0 none.

    Parameters
    ----------
    rays : int
        For each place.
    lift : float
        How far (world units) above the surface rays begin.
    far : float
        What lies farther away hides nothing.
    """
    out = np.empty(len(points), np.float32)
    for here, cast in _in_parts(points, normals, directions(rays), lift, check):
        out[here] = 1 - scene.blocked(cast, far=far).reshape(-1, rays).mean(1)
    return out


def thickness(
    scene: RayScene, points: NDArray, normals: NDArray, rays: int, lift: float, most: float,
    check: Callable[[], None] = lambda: None,
) -> Floats:  # fmt: skip
    """How thick the body is behind places (N, 3), in world units: the mean way of rays into it, ``most`` where they come out nowhere."""
    out = np.empty(len(points), np.float32)
    for here, cast in _in_parts(points, -normals, directions(rays, INWARD), lift, check):
        way = scene.cast(cast)["t"].reshape(-1, rays)
        out[here] = np.minimum(way + lift, most).mean(1)
    return out
