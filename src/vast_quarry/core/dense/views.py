"""Which photos help the depth of which, and how near and far each pixel may lie."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.box import KeepBox
from vast_quarry.core.camera import Camera

Array = NDArray[np.float64]
#: lines of a picture whose rays are worked out at once
LINES = 128


def choose_sources(
    points: Array,
    start: NDArray[np.int64],
    photo: NDArray[np.int64],
    centers: Array,
    count: int,
    best_angle: float = 14.0,
) -> list[NDArray[np.int64]]:
    """For every photo the ``count`` others that help its depth most.

    A shared point counts by the angle between its two rays: full between ``best_angle`` and twice that, less below
    (little parallax) and above (things look different).

    Parameters
    ----------
    points : (P, 3)
        Sparse points.
    start : (P + 1,), photo : (M,)
        Photos that see each point, sorted by point.
    centers : (n, 3)
        Of all photos; those that see nothing get no sources.
    """
    n = len(centers)
    score = np.zeros((n, n))
    lengths = np.diff(start)
    point_of = np.repeat(np.arange(len(points)), lengths)
    rays = points[point_of] - centers[photo]
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    for shift in range(1, int(lengths.max(initial=1))):
        a = np.arange(len(photo) - shift)
        a = a[point_of[a] == point_of[a + shift]]
        if not len(a):
            break
        b = a + shift
        angle = np.degrees(np.arccos(np.clip((rays[a] * rays[b]).sum(1), -1, 1)))
        sigma = np.where(angle < best_angle, best_angle / 2.2, 18.0)
        away = np.where(angle < best_angle, best_angle - angle, np.maximum(angle - 2 * best_angle, 0.0))
        weight = np.exp(-0.5 * (away / sigma) ** 2)
        np.add.at(score, (photo[a], photo[b]), weight)
        np.add.at(score, (photo[b], photo[a]), weight)
    out = []
    for i in range(n):
        order = np.argsort(-score[i], kind="stable")[:count]
        out.append(order[score[i, order] > max(1.0, 0.02 * score[i].max(initial=0.0))])
    return out


def box_bounds(
    box: KeepBox, camera: Camera, rotation: Array, center: Array, margin: float
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.bool_]]:
    """Where the ray of every pixel enters and leaves the keep box, grown by ``margin``.

    Returns
    -------
    near, far : (H, W) float32
        Depth along the optical axis; 1 where the box is missed.
    hit : (H, W) bool
    """
    shape = camera.height, camera.width
    near, far, hit = np.empty(shape, np.float32), np.empty(shape, np.float32), np.empty(shape, bool)
    # some lines at a time: rays and where they meet six sides take fifty times what is kept of them
    for first in range(0, camera.height, LINES):
        here = slice(first, min(first + LINES, camera.height))
        near[here], far[here], hit[here] = _box_bounds(
            box, camera, rotation, center, margin, np.arange(camera.height)[here]
        )
    return near, far, hit


def _box_bounds(
    box: KeepBox, camera: Camera, rotation: Array, center: Array, margin: float, lines: NDArray[np.int64]
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.bool_]]:
    """The same of some lines of the picture."""
    u, v = np.meshgrid(np.arange(camera.width), lines)
    rays = np.stack([(u - camera.cx) / camera.fx, (v - camera.cy) / camera.fy, np.ones(u.shape)], -1)
    d = rays @ rotation @ box.axes.T
    o = box.axes @ center
    low, high = np.asarray(box.low) - margin, np.asarray(box.high) + margin
    with np.errstate(divide="ignore", invalid="ignore"):
        t1, t2 = (low - o) / d, (high - o) / d
    enter = np.nanmax(np.minimum(t1, t2), axis=-1)
    leave = np.nanmin(np.maximum(t1, t2), axis=-1)
    nearest = 1e-3 * float(np.linalg.norm(box.size))
    enter = np.maximum(enter, nearest)
    hit = leave > enter
    one = np.float32(1.0)
    return (
        np.where(hit, enter, one).astype(np.float32),
        np.where(hit, leave, one * 2).astype(np.float32),
        hit,
    )
