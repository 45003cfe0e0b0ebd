"""Which photos of a set were taken from one stand of the camera, so that what is still in them is background.

Photos are compared small. A set before a still backdrop has few stands with many photos each, in which the middle changes and the
border does not; on a walk round a subject each photo is a stand of its own; frames of a tripod before a still subject are one
stand in which nothing changes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

Mask = NDArray[np.bool_]
#: longer side at which photos are compared (pixels)
SIDE = 240
#: lightness (L*) by which fine texture swings at least, to count
TEXTURE = 0.8
#: in the place of how much texture moved, where there is none
UNKNOWN = -1.0
#: stands before that a photo is compared with
LOOK_BACK = 12
#: frames that are kept ready to be compared
AT_HAND = 64
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


def _fine(lab: NDArray[np.float32]) -> NDArray[np.float32]:
    """Fine texture of lightness."""
    light = np.ascontiguousarray(lab[..., 0])
    return np.asarray(cv2.GaussianBlur(light, (0, 0), 0.7) - cv2.GaussianBlur(light, (0, 0), 3.0), np.float32)


@dataclass(frozen=True)
class _Frame:
    """What is compared of a frame: colours at every second pixel, and the texture of its outer band at all (B,)."""

    light: NDArray[np.float32]
    lab: NDArray[np.float32]
    fine: NDArray[np.float32]
    #: how much texture there is about each pixel, squared
    swing: NDArray[np.float32]


class _Pairs:
    """Compares frames two at a time; what is of one frame alone is kept for the next comparisons."""

    def __init__(self, frames: NDArray[np.uint8]) -> None:
        band = border(frames.shape[1], frames.shape[2], 0.12)
        self.thin = band[::2, ::2]

        @lru_cache(AT_HAND)
        def frame(k: int) -> _Frame:
            fine = _fine(to_lab(frames[k]))
            light = frames[k, ::2, ::2].astype(np.float32) + 1.0
            swing = np.asarray(cv2.blur(fine * fine, (5, 5)), np.float32)
            return _Frame(light, to_lab(light), fine[band], swing[band])

        self.frame = frame

    def change(self, a: int, b: int) -> tuple[float, float, float]:
        """Median difference of the outer bands, share of the picture that changed, and whether the bands' texture moved: 1 - its
        correlation, below 0 where there is hardly any."""
        one, other = self.frame(a), self.frame(b)
        gain = np.median(other.light[self.thin] / one.light[self.thin], axis=0)
        d = to_lab(one.light * gain) - other.lab
        far = np.sqrt(np.einsum("yxc,yxc->yx", d, d))
        textured = one.swing + other.swing > 2 * TEXTURE**2
        moved = UNKNOWN
        if textured.sum() > 0.04 * len(textured):
            x, y = one.fine[textured], other.fine[textured]
            moved = 1.0 - float((x * y).sum() / np.sqrt((x * x).sum() * (y * y).sum() + 1e-9))
        return float(np.median(far[self.thin])), float(np.mean(far > 8.0)), moved


def stands(frames: NDArray[np.uint8], most_apart: float = 2.5, most_moved: float = 0.5) -> NDArray[np.int64]:
    """Which frames (N, h, w, 3), small ones, were taken from one stand of the camera: numbers from 0 by order of the first.

    The outer bands of two frames agree within ``most_apart`` (Delta E, median) once their brightness is evened out, and their
    texture stays where it is. Before a plain backdrop that says little: there the camera's stand changes where much more of the
    picture changes, from one frame to the next, than it usually does.
    """
    n = len(frames)
    pairs = _Pairs(frames)
    steps = np.array([pairs.change(k, k + 1) for k in range(n - 1)]).reshape(-1, 3)
    usual = float(np.median(steps[:, 1])) if len(steps) else 0.0

    def differ(rows: NDArray, factor: float) -> NDArray:
        """Whether pairs are of two stands: by how much else changes only where no texture behind tells."""
        jump = (rows[:, 2] == UNKNOWN) & (rows[:, 1] > factor * usual + 0.01)
        return np.asarray((rows[:, 0] > most_apart) | (rows[:, 2] > most_moved) | jump)

    cuts = differ(steps, 1.7)
    runs = np.zeros(n, int)
    leader = 0
    for k in range(1, n):
        # a camera that moves slowly never moves far from one frame to the next
        far, _, moved = pairs.change(leader, k) if k > leader + 1 else (0.0, 0.0, 0.0)
        cut = bool(cuts[k - 1]) or far > most_apart or moved > most_moved
        runs[k] = runs[k - 1] + cut
        leader = k if cut else leader
    out = np.full(n, -1)
    found: list[list[int]] = []
    for run in range(runs[-1] + 1):
        mine = np.flatnonzero(runs == run)
        probe = mine[np.linspace(0, len(mine) - 1, min(len(mine), 3)).astype(int)]
        which = -1
        # stands before are looked at again, but not all of hundreds
        for g in range(len(found) - 1, max(-1, len(found) - 1 - LOOK_BACK), -1):
            other = np.array(found[g])[np.linspace(0, len(found[g]) - 1, min(len(found[g]), 8)).astype(int)]
            near = np.array([pairs.change(a, b) for a in probe for b in other])
            if not differ(near, 1.2).all():
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
    """Stands of a set: number of each photo's, and how much changes within them, in the picture and in its outer band (shares)."""

    numbers: NDArray[np.int64]
    changes: float
    band_changes: float

    @property
    def told(self) -> Mask:
        """Photos whose stand has photos enough for its background to be told."""
        return np.asarray(np.bincount(self.numbers)[self.numbers] >= FEWEST)

    @property
    def still(self) -> bool:
        """Whether most photos stand before a still backdrop while something moves before it."""
        moves = self.changes > 0.01 and self.band_changes < 0.5 * self.changes
        return bool(len(self.numbers) >= FEWEST and self.told.mean() > 0.6 and moves)


def find_stands(frames: NDArray[np.uint8]) -> Stands:
    """Stands of small frames (N, h, w, 3) in their order, and how much changes within them."""
    numbers = stands(frames)
    band = border(frames.shape[1], frames.shape[2])
    shares = []
    for g in np.unique(numbers):
        mine = frames[numbers == g]
        if len(mine) >= FEWEST:
            picked = mine[np.linspace(0, len(mine) - 1, min(len(mine), 12)).astype(int)].astype(np.float32) + 1.0
            picked *= np.median((picked.mean(0) / picked)[:, band], axis=1)[:, None, None]
            changed = np.ptp(picked, axis=0).max(2) > 40.0
            shares.append((float(changed.mean()), float(changed[band].mean())))
    whole, outer = np.median(shares, axis=0) if shares else (0.0, 0.0)
    return Stands(numbers, float(whole), float(outer))


def stands_of(pictures: Sequence[NDArray[np.uint8]]) -> tuple[Stands, list[int]]:
    """Stands of small pictures, of those that have the shape of most; and which these are."""
    shapes = [p.shape for p in pictures]
    usual = max(shapes, key=shapes.count)
    alike = [k for k, shape in enumerate(shapes) if shape == usual]
    return find_stands(np.stack([pictures[k] for k in alike])), alike
