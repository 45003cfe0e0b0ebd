"""What the cameras look at: the points of the sparse cloud that belong to the subject, and where it stands."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import cKDTree

Array = NDArray[np.float64]


def focus_point(rotations: Array, centers: Array) -> Array:
    """Where the optical axes meet, in the least-squares sense, (3,)."""
    a = np.zeros((3, 3))
    b = np.zeros(3)
    for r, c in zip(rotations, centers):
        p = np.eye(3) - np.outer(r[2], r[2])
        a += p
        b += p @ c
    return np.linalg.solve(a + 1e-9 * np.eye(3) * np.trace(a), b)


def subject_cluster(points: Array, focus: Array, reach: float) -> NDArray[np.bool_]:
    """Which points (N, 3) belong to what the cameras look at.

    Points within ``0.8 reach`` of the focus are put on a grid of cells a twentieth of the reach wide, whose occupied
    cells are joined with their neighbours. The cluster with most points, weighed by closeness to the focus, wins;
    clusters of some weight close to it belong to it (a sparse cloud has gaps where the subject is plain).
    """
    distance = np.linalg.norm(points - focus, axis=1)
    near = distance < 0.8 * reach
    if near.sum() < 30:
        return near if near.any() else np.ones(len(points), bool)
    p = points[near]
    low = p.min(0)
    cell = 0.05 * reach + 1e-12
    index = ((p - low) / cell).astype(int)
    grid = np.zeros(index.max(0) + 3, np.int32)
    np.add.at(grid, tuple((index + 1).T), 1)
    occupied = ndimage.binary_dilation(grid > 0, structure=ndimage.generate_binary_structure(3, 1))
    label, count = ndimage.label(occupied, structure=np.ones((3, 3, 3)))
    mine = label[tuple((index + 1).T)]
    weight = 1.0 / (0.05 + (distance[near] / reach) ** 2)
    score = np.bincount(mine, weights=weight, minlength=count + 1)
    score[0] = 0
    winner = int(np.argmax(score))
    members = p[mine == winner]
    chosen = [winner]
    for k in range(1, count + 1):
        if k != winner and score[k] > 0.02 * score[winner]:
            other = p[mine == k]
            gap = np.maximum(members.min(0) - other.max(0), other.min(0) - members.max(0)).max()
            if gap < 0.12 * reach and np.linalg.norm(other.mean(0) - focus) < 0.5 * reach:
                chosen.append(k)
    out = np.zeros(len(points), bool)
    out[np.flatnonzero(near)[np.isin(mine, chosen)]] = True
    return out


def without_strays(points: Array, neighbours: int = 6, factor: float = 4.0) -> Array:
    """Points (N, 3) without those that lie lonely: much further from their neighbours than most do from theirs."""
    if len(points) < 10 * neighbours:
        return points
    distance, _ = cKDTree(points).query(points, k=neighbours + 1)
    lonely = distance[:, -1] > factor * np.median(distance[:, -1])
    return points[~lonely]


#: thickness (share of the height) of what supports the foot, and how many points it holds at least, of the usual number
FOOT, SUPPORT = 0.02, 0.25


def foot_of(heights: Array) -> float:
    """Height of the foot of a subject without a ground, from the heights of its points (N,).

    The lowest point above which there are as many as a thin slice of the lower half usually holds, or nearly: what lies
    below it is stray.
    """
    h = np.sort(np.asarray(heights, float))
    low, high = np.percentile(h, [1, 99])
    slice_ = FOOT * (high - low)
    if len(h) < 40 or slice_ <= 0:
        return float(h[min(3, len(h) - 1)])
    within = np.searchsorted(h, h + slice_, side="right") - np.arange(len(h))
    usual = float(np.median(within[h < (low + high) / 2]))
    return float(h[np.argmax(within >= max(SUPPORT * usual, 4))])
