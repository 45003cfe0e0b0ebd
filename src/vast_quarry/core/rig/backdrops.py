"""Still backdrops of the rig: what a camera on a tripod sees behind a turntable or a desk.

A backdrop is a picture of the camera's frame, since the camera stands still before it; at another height (``level``) the
camera sees another part of it.
"""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.rig.scenes import Scene

Picture = NDArray[np.float32]
#: by how much of a frame the backdrop moves from one height of the camera to the next
STEP = 0.3


def _soft(scene: Scene, width: int, height: int, level: int) -> Picture:
    """An unevenly dyed cloth, out of focus; the same at every height."""
    rng = np.random.default_rng(scene.seed + 900)
    small = rng.normal(0, 1, (9, 12, 3)).astype(np.float32)
    picture = cv2.resize(small, (width, height), interpolation=cv2.INTER_CUBIC)
    specks = cv2.GaussianBlur(rng.normal(0, 1, (height, width, 1)).astype(np.float32), (0, 0), 1.6)
    return np.asarray(scene.sky, np.float32) * (1 + 0.05 * picture + 0.10 * specks[..., None]).clip(0.2, 2)


def _desk(scene: Scene, width: int, height: int, level: int) -> Picture:
    """Sharp and full of things."""
    rng = np.random.default_rng(scene.seed + 900)
    out = np.ones((height, width, 3), np.float32) * np.asarray(scene.sky, np.float32)
    for scale in (40.0, 16.0, 6.0, 2.5, 1.2):
        n = (max(2, round(height / scale)), max(2, round(width / scale)), 3)
        layer = cv2.resize(rng.uniform(-1, 1, n).astype(np.float32), (width, height), interpolation=cv2.INTER_NEAREST)
        out *= 1 + 0.28 * cv2.GaussianBlur(layer, (0, 0), 0.7)
    return out.clip(0.02, 2)


def _plain(scene: Scene, width: int, height: int, level: int) -> Picture:
    """Grey-blue paper, lit almost evenly."""
    v, u = np.meshgrid(np.linspace(-1, 1, height), np.linspace(-1, 1, width), indexing="ij")
    light = 1 - 0.06 * (u**2 + v**2) + 0.03 * u
    return np.asarray((np.array([0.42, 0.47, 0.52]) * light[..., None]), np.float32)


def _graded(scene: Scene, width: int, height: int, level: int) -> Picture:
    """Paper that falls off from bright to dark, towards another hue."""
    v, u = np.meshgrid(np.linspace(0, 1, height), np.linspace(0, 1, width), indexing="ij")
    t = ((v + STEP * level) / (1 + 2 * STEP)).clip(0, 1)[..., None]
    light = (np.array([0.75, 0.74, 0.70]) * (1 - t) + np.array([0.10, 0.13, 0.19]) * t) * (
        1 - 0.25 * (u[..., None] - 0.4) ** 2
    )
    return np.asarray(light, np.float32)


def _patterned(scene: Scene, width: int, height: int, level: int) -> Picture:
    """A curtain with stripes and prints above a board with things on it, slightly out of focus."""
    rng = np.random.default_rng(scene.seed + 907)
    tall = int(height * (1 + 3 * STEP))
    v, u = np.meshgrid(np.arange(tall) / height, np.arange(width) / height, indexing="ij")
    folds = 1 + 0.18 * np.sin(2 * np.pi * (u * 5.3 + 0.15 * np.sin(4 * v)))
    stripes = 1 + 0.35 * (np.sin(2 * np.pi * u * 17) > 0.3)
    out = (np.array([0.26, 0.20, 0.24]) * (folds * stripes)[..., None]).astype(np.float32)
    for _ in range(140):
        at = (int(rng.uniform(0, width)), int(rng.uniform(0, tall)))
        size = (int(rng.uniform(0.01, 0.05) * height), int(rng.uniform(0.01, 0.09) * height))
        color = [float(c) for c in rng.uniform(0.03, 0.7, 3)]
        cv2.ellipse(out, at, size, float(rng.uniform(0, 180)), 0, 360, color, -1, cv2.LINE_AA)
    first = int(tall - height - min(level, 3) * STEP * height)
    return cv2.GaussianBlur(out[max(first, 0) : max(first, 0) + height], (0, 0), height / 700)


BACKDROPS: dict[str, Callable[[Scene, int, int, int], Picture]] = {
    "soft": _soft, "plain": _plain, "graded": _graded, "patterned": _patterned, "desk": _desk,
}  # fmt: skip


def make_backdrop(scene: Scene, width: int, height: int, kind: str = "soft", level: int = 0) -> Picture:
    """A still backdrop (height, width, 3) in linear RGB, as seen from the camera's ``level``-th height.

    Raises
    ------
    ValueError
        For an unknown kind.
    """
    if kind not in BACKDROPS:
        raise ValueError(f"no backdrop called {kind!r}; there are: {', '.join(BACKDROPS)}")
    return BACKDROPS[kind](scene, width, height, level)
