"""Photos beside the one whose depth is looked for, as the kernels want them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense.window_kernels import pack

#: left, top, right and bottom of a part of a photo, in pixels
Part = tuple[int, int, int, int]


@dataclass
class View:
    """An undistorted photo with its pose: gray (H, W) uint8, pinhole camera, rotation (3, 3), centre (3,)."""

    gray: NDArray[np.uint8]
    camera: Camera
    rotation: NDArray[np.float64]
    center: NDArray[np.float64]

    def at_level(self, level: int) -> View:
        """The view at ``2^-level`` of its size."""
        if level == 0:
            return self
        size = (max(16, self.camera.width >> level), max(16, self.camera.height >> level))
        gray = cv2.resize(self.gray, size, interpolation=cv2.INTER_AREA)
        return View(gray, self.camera.scaled(*size), self.rotation, self.center)


class Sources:
    """Source photos at one level, packed one after the other: whole, or the part of each that is wanted (asked with its place among
    them)."""

    def __init__(self, ref: View, sources: Iterable[View], part: Callable[[int, View], Part] | None = None) -> None:
        packed, shapes, maps, shifts = [], [], [], []
        k_inv = np.linalg.inv(ref.camera.matrix)
        for number, s in enumerate(sources):
            left, top, right, bottom = part(number, s) if part is not None else (0, 0, s.gray.shape[1], s.gray.shape[0])
            tex = pack(s.gray[top:bottom, left:right])
            packed.append(tex.ravel().view(np.int32))
            shapes.append(tex.shape)
            matrix = np.array([[1.0, 0.0, -left], [0.0, 1.0, -top], [0.0, 0.0, 1.0]]) @ s.camera.matrix
            maps.append((matrix @ (s.rotation @ ref.rotation.T) @ k_inv).ravel())
            shifts.append(matrix @ (s.rotation @ (ref.center - s.center)))
        self.views = len(packed)
        ends = np.cumsum([len(p) for p in packed]).astype(np.int64)
        self.bases = np.concatenate([[0], ends[:-1]]).astype(np.int64)
        self.tex = np.empty(int(ends[-1]), np.int32)
        for start in self.bases[::-1]:
            # each goes as soon as it is copied: all of them twice would be what takes most
            last = packed.pop()
            self.tex[start : start + len(last)] = last
        self.sh, self.sw = np.array(shapes, np.int64).T.copy()
        self.A, self.b = np.array(maps, np.float32), np.array(shifts, np.float32)


def disparity_step(ref: View, sources: list[View], depth: float) -> float:
    """Change of inverse depth that moves the image in a typical source photo by one pixel."""
    baselines = [np.linalg.norm(s.center - ref.center) for s in sources]
    return float(1.0 / (ref.camera.fx * max(float(np.median(baselines)), 1e-9)))
