"""Which way is up, and where the ground is.

*Up* comes from three witnesses. Photos are held level, so their x axes are horizontal: up is the direction most nearly
perpendicular to all of them. Laps at one height make the centres of each lap coplanar: the common normal of the laps is
a second estimate. A plane with many points below the cameras and next to none under it is the ground: the best witness
where it exists.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def up_from_level_photos(rotations: Array) -> Array:
    """Direction most nearly perpendicular to the x axes of all photos (n, 3, 3), on the side of their tops."""
    x = rotations[:, 0, :]
    _, vectors = np.linalg.eigh(x.T @ x)
    up = vectors[:, 0]
    mean_top = -rotations[:, 1, :].mean(0)
    values = np.linalg.eigvalsh(x.T @ x)
    if values[1] < 0.02 * values[2]:  # all looking the same way: x axes say nothing about the pitch
        up = mean_top - (mean_top @ x.mean(0)) * x.mean(0)
    up = up / np.linalg.norm(up)
    return up if up @ mean_top >= 0 else -up


def wall_normal(points: Array, centers: Array) -> Array | None:
    """Unit normal, towards the cameras (n, 3), of the wall that most points (N, 3) lie on; None where they are no wall."""
    middle = np.median(points, axis=0)
    near = points - middle
    normal = np.zeros(3)
    for _ in range(5):
        values, vectors = np.linalg.eigh(near.T @ near)
        if values[0] > 0.1 * values[1]:
            return None
        normal = vectors[:, 0]
        off = np.abs((points - middle) @ normal)
        near = points[off <= 3 * max(float(np.median(off)), 1e-12)] - middle
    return np.asarray(normal * np.sign(normal @ (centers.mean(0) - middle)))


def up_from_above(rotations: Array) -> Array:
    """Where photos (n, 3, 3) that look down were taken from, as a direction: against their mean line of sight."""
    up = -rotations[:, 2].mean(0)
    return np.asarray(up / max(float(np.linalg.norm(up)), 1e-12))


def up_from_laps(centers: Array, up: Array) -> Array | None:
    """Common normal of laps of camera centres (n, 3) near a first guess ``up``, or None when there are no laps."""
    for _ in range(3):
        height = centers @ up
        order = np.argsort(height)
        spread = np.ptp(height)
        across = np.linalg.norm(centers - centers.mean(0), axis=1).max()
        gaps = np.flatnonzero(np.diff(height[order]) > max(0.25 * spread, 0.08 * across))
        laps = [g for g in np.split(order, gaps + 1) if len(g) >= 6]
        if not laps:
            return None
        scatter = np.zeros((3, 3))
        for g in laps:
            d = centers[g] - centers[g].mean(0)
            scatter += d.T @ d
        values, vectors = np.linalg.eigh(scatter)
        if values[1] < 0.05 * values[2] or values[0] > 0.05 * values[1]:
            return None  # on a line, or not flat
        normal = vectors[:, 0] * np.sign(vectors[:, 0] @ up)
        if normal @ up < np.cos(np.radians(30)):
            return None
        up = normal
    return up


def ground_plane(points: Array, centers: Array, up: Array, seed: int = 0) -> tuple[Array, float, float] | None:
    """The ground under the subject: normal (3,), offset (``normal . x = offset``) and its roughness, or None.

    A plane is the ground when it holds at least a tenth of the points, lies below all cameras, hardly any point
    lies under it, and it is within 25 degrees of level.
    """
    if len(points) < 200:
        return None
    rng = np.random.default_rng(seed)
    sample = points[rng.choice(len(points), min(len(points), 6000), replace=False)]
    reach = np.median(np.linalg.norm(centers - np.median(points, axis=0), axis=1))
    tolerance = 0.012 * reach
    best, best_score = None, 0.0
    for _ in range(800):
        a, b, c = sample[rng.choice(len(sample), 3, replace=False)]
        n = np.cross(b - a, c - a)
        length = np.linalg.norm(n)
        if length < 1e-9 * reach**2:
            continue
        n = n / length * np.sign(n @ up)
        if n @ up < np.cos(np.radians(25)):
            continue
        h = sample @ n - n @ a
        if ((centers @ n - n @ a) < tolerance).any():
            continue
        on, under = (np.abs(h) < tolerance).mean(), (h < -2.5 * tolerance).mean()
        score = on - 3.0 * under
        if score > best_score:
            best, best_score = (n, float(n @ a)), score
    if best is None or best_score < 0.10:
        return None
    n, d = best
    for _ in range(6):
        h = points @ n - d
        near = points[np.abs(h) < tolerance]
        middle = near.mean(0)
        _, vectors = np.linalg.eigh((near - middle).T @ (near - middle))
        n = vectors[:, 0] * np.sign(vectors[:, 0] @ up)
        h = (near - middle) @ n
        rough = 1.4826 * float(np.median(np.abs(h - np.median(h))))
        d = float(n @ middle + np.median(h))
        tolerance = max(min(tolerance, 3.0 * rough), 1e-4 * reach)
    # a patch, not a stripe: spread in both directions
    spread = np.linalg.eigvalsh(np.cov((near - middle).T))
    if spread[1] < 0.02 * spread[2]:
        return None
    return n, d, rough
