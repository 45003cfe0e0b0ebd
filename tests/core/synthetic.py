"""Made-up captures for the alignment without pictures: points, cameras, matches with noise and planted false ones."""

from __future__ import annotations

import itertools

import numpy as np

from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.camera import Camera, project
from vast_quarry.core.pose import look_at, rotation_from_vector

LENS = Camera(640, 480, 745.0, 745.0, 323.0, 238.0, -0.08, 0.04)


def cloud(rng: np.random.Generator, count: int = 500) -> np.ndarray:
    """A block on a ground that reaches far behind it."""
    block = rng.uniform([-0.25, -0.2, 0.0], [0.25, 0.2, 0.6], (count // 2, 3))
    ground = np.concatenate(
        [rng.uniform(-1.6, 1.6, (count - count // 2, 2)), rng.normal(0, 0.01, (count - count // 2, 1))], 1
    )
    return np.concatenate([block, ground])


def arc(degrees: float, count: int, distance: float = 1.8, still: int = 0) -> list[tuple[np.ndarray, np.ndarray]]:
    """Rotations and centres on an arc, the first ``still`` of them at one place."""
    out = []
    for k in range(count):
        a = np.radians(degrees * max(0, k - still) / max(count - 1 - still, 1))
        center = distance * np.array([np.sin(a), -np.cos(a), 0.4])
        out.append((look_at(center, [0, 0, 0.25]), center))
    return out


def turned_in_place(degrees: float, count: int) -> list[tuple[np.ndarray, np.ndarray]]:
    """A panorama: one centre, many rotations."""
    (r, c), *_ = arc(0, 2)
    return [
        (rotation_from_vector(np.radians(degrees) * np.array([0.1, k / (count - 1) - 0.5, 0])) @ r, c)
        for k in range(count)
    ]


def seen_by(
    rng: np.random.Generator, points: np.ndarray, poses: list, noise: float = 0.15, false: float = 0.0, reach: int = 99,
    lens: Camera | list[Camera] = LENS, start: Camera | None = None,
) -> AlignInput:  # fmt: skip
    """What matching would give: every photo sees the points within it; photos up to ``reach`` apart are matched.

    ``lens`` may be one for each photo; the first is what alignment is told, unless ``start`` is.
    """
    xy, kept = [], []
    lenses = lens if isinstance(lens, list) else [lens] * len(poses)
    for (r, c), lens in zip(poses, lenses):
        px, z = project(lens, r, c, points)
        inside = (z > 0) & (px > 2).all(1) & (px < [lens.width - 3, lens.height - 3]).all(1)
        kept.append(np.flatnonzero(inside))
        xy.append((px[inside] + rng.normal(0, noise, (int(inside.sum()), 2))).astype(np.float32))
    matches = {}
    for i, j in itertools.combinations(range(len(poses)), 2):
        if j - i > reach:
            continue
        _, a, b = np.intersect1d(kept[i], kept[j], return_indices=True)
        wrong = rng.random(len(a)) < false
        b = b.copy()
        b[wrong] = rng.integers(0, len(xy[j]), int(wrong.sum()))
        _, first = np.unique(b, return_index=True)
        matches[i, j] = np.stack([a, b], 1)[np.sort(first)].astype(np.int32)
    guess = start or Camera.simple(lens.width, lens.height, 592.0)
    n = len(poses)
    return AlignInput(
        xy, [np.full(len(x), 4.0, np.float32) for x in xy], matches, np.zeros(n, np.int64), [guess], [start is None]
    )
