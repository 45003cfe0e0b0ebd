"""Which photos of a set were taken from one stand of the camera, so that what is still in them is background.

Photos are compared small. A set before a still backdrop has few stands with many photos each, in which the middle changes and the
border does not; on a walk round a subject each photo is a stand of its own; frames of a tripod before a still subject are one
stand in which nothing changes.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Mask = NDArray[np.bool_]
#: longer side at which photos are compared (pixels)
SIDE = 96
#: frames of one stand from which its background is told; with fewer nothing can be
FEWEST = 4


def to_lab(rgb: NDArray) -> NDArray[np.float32]:
    """CIE L*a*b* (..., 3) of sRGB of any number type, full scale 255."""
    return np.asarray(cv2.cvtColor(np.clip(rgb.astype(np.float32) / 255.0, 0, 1), cv2.COLOR_RGB2LAB), np.float32)


def border(height: int, width: int, share: float = 0.1) -> Mask:
    """The frame's outer band."""
    out = np.ones((height, width), bool)
    dy, dx = max(1, round(share * height)), max(1, round(share * width))
    out[dy:-dy, dx:-dx] = False
    return out


def stands(frames: NDArray[np.uint8], most_apart: float = 2.5) -> NDArray[np.int64]:
    """Which frames (N, h, w, 3), small ones, were taken from one stand of the camera: numbers from 0 by order of the first.

    The outer bands of two frames agree within ``most_apart`` (Delta E, median) once their brightness is evened out. Before a
    plain backdrop that says little: there the camera's stand changes where much more of the picture changes, from one frame
    to the next, than it usually does.
    """
    n, h, w, _ = frames.shape
    band = border(h, w, 0.12)
    flat = frames.reshape(n, -1, 3).astype(np.float32) + 1.0
    rows = flat[:, band.ravel()]

    def evenly(a: int, b: int) -> tuple[NDArray, NDArray]:
        gain = np.median(rows[b] / rows[a], axis=0)
        return to_lab((flat[a] * gain)[None])[0], to_lab(flat[b][None])[0]

    def change(a: int, b: int) -> tuple[float, float]:
        """Median difference of the outer bands, and the share of the picture that changed."""
        one, other = evenly(a, b)
        far = np.linalg.norm(one - other, axis=1)
        return float(np.median(far[band.ravel()])), float(np.mean(far > 8.0))

    steps = np.array([change(k, k + 1) for k in range(n - 1)]).reshape(-1, 2)
    usual = np.median(steps[:, 1]) if len(steps) else 0.0
    cuts = (steps[:, 0] > most_apart) | (steps[:, 1] > 1.7 * usual + 0.01)
    runs = np.concatenate([[0], np.cumsum(cuts)]).astype(int)
    out = np.full(n, -1)
    found: list[list[int]] = []
    for run in range(runs[-1] + 1):
        mine = np.flatnonzero(runs == run)
        probe = mine[np.linspace(0, len(mine) - 1, min(len(mine), 5)).astype(int)]
        which = -1
        for g, theirs in enumerate(found):
            other = np.array(theirs)[np.linspace(0, len(theirs) - 1, min(len(theirs), 12)).astype(int)]
            near = np.array([change(a, b) for a in probe for b in other])
            if near[:, 0].min() < most_apart and near[:, 1].min() < 1.2 * usual + 0.005:
                which = g
                break
        if which < 0:
            found.append([])
            which = len(found) - 1
        found[which].extend(mine.tolist())
        out[mine] = which
    return out


@dataclass(frozen=True)
class Stands:
    """Stands of a set: number of each photo's, and for each photo whether its stand's background can be told."""

    numbers: NDArray[np.int64]
    changes: float

    @property
    def told(self) -> Mask:
        """Photos whose stand has photos enough."""
        return np.asarray(np.bincount(self.numbers)[self.numbers] >= FEWEST)

    @property
    def still(self) -> bool:
        """Whether most photos stand before a still backdrop while something moves before it."""
        return bool(len(self.numbers) >= FEWEST and self.told.mean() > 0.6 and self.changes > 0.01)


def find_stands(frames: NDArray[np.uint8]) -> Stands:
    """Stands of small frames (N, h, w, 3) in their order, and how much changes within them (share of the picture)."""
    numbers = stands(frames)
    shares = []
    for g in np.unique(numbers):
        mine = frames[numbers == g]
        if len(mine) >= FEWEST:
            picked = mine[np.linspace(0, len(mine) - 1, min(len(mine), 12)).astype(int)].astype(np.float32) + 1.0
            flat = picked.reshape(len(picked), -1, 3)
            flat *= np.median(flat.mean(0) / flat, axis=1)[:, None]
            shares.append(float(np.mean(np.ptp(flat, axis=0).max(1) > 40.0)))
    return Stands(numbers, float(np.median(shares)) if shares else 0.0)
