"""SIFT features with root normalisation.

References
----------
Lowe, D. G. (2004). Distinctive image features from scale-invariant keypoints. IJCV 60(2), 91-110.
Arandjelovic, R., Zisserman, A. (2012). Three things everyone should know to improve object retrieval. CVPR.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

#: RootSIFT values (0..1) are kept as bytes: value * STEP, rounded
STEP = 512.0


@dataclass
class Features:
    """Features of one photo.

    Attributes
    ----------
    xy : (N, 2) float32
        Pixels of the upright photo at full size, pixel centres at integer coordinates.
    scale : (N,) float32
        Diameter of the neighbourhood in full-size pixels.
    descriptors : (N, 128) uint8
        RootSIFT, times :data:`STEP`.
    colors : (N, 3) uint8
    """

    xy: NDArray[np.float32]
    scale: NDArray[np.float32]
    descriptors: NDArray[np.uint8]
    colors: NDArray[np.uint8]

    def __len__(self) -> int:
        return len(self.xy)


def root_normalised(descriptors: NDArray[np.float32]) -> NDArray[np.float32]:
    """Square roots of L1-normalised descriptors (N, 128): their dot product is the Hellinger kernel."""
    total = np.maximum(np.abs(descriptors).sum(1, keepdims=True), 1e-9)
    return np.sqrt(np.maximum(descriptors, 0) / total).astype(np.float32)


def find_features(
    rgb: NDArray[np.uint8], full_width: int, limit: int, mask: NDArray[np.bool_] | None = None
) -> Features:
    """Detect and describe features of a photo.

    Parameters
    ----------
    rgb : (H, W, 3) uint8
        The upright photo, perhaps smaller than the original.
    full_width : int
        Width of the original, to give positions in its pixels.
    limit : int
        Greatest number of features; those of strongest contrast in each cell of a grid are kept, so that they spread.
    mask : (H, W) bool, optional
        Features outside of it are dropped.
    """
    gray = cv2.cvtColor(rgb, cv2.COLOR_RGB2GRAY)
    sift = cv2.SIFT_create(0, 3, 0.02, 12.0, 1.6, True)  # type: ignore[attr-defined]
    points = sift.detect(gray, None if mask is None else mask.astype(np.uint8))
    points = _spread(points, gray.shape[1], gray.shape[0], limit)
    if not points:
        return Features(
            np.zeros((0, 2), np.float32),
            np.zeros(0, np.float32),
            np.zeros((0, 128), np.uint8),
            np.zeros((0, 3), np.uint8),
        )
    points, raw = sift.compute(gray, points)
    xy = np.array([p.pt for p in points], np.float32)
    ij = np.round(xy).astype(int).clip(0, [gray.shape[1] - 1, gray.shape[0] - 1])
    factor = full_width / gray.shape[1]
    packed = np.minimum(root_normalised(raw) * STEP + 0.5, 255).astype(np.uint8)
    scale = np.array([p.size for p in points], np.float32) * factor
    return Features(((xy + 0.5) * factor - 0.5).astype(np.float32), scale, packed, rgb[ij[:, 1], ij[:, 0]])


def _spread(points: tuple, width: int, height: int, limit: int, cells: int = 12) -> list:
    """The strongest points, half of the places shared out evenly over a grid."""
    if len(points) <= limit:
        return list(points)
    xy = np.array([p.pt for p in points])
    strength = np.array([p.response for p in points])
    cell = (xy[:, 0] * cells / width).astype(int) * cells + (xy[:, 1] * cells / height).astype(int)
    order = np.argsort(-strength, kind="stable")
    by_cell = order[np.argsort(cell[order], kind="stable")]
    starts = np.concatenate([[0], np.flatnonzero(np.diff(cell[by_cell])) + 1])
    rank = np.arange(len(by_cell)) - np.repeat(starts, np.diff([*starts, len(by_cell)]))
    share = max(1, limit // (2 * len(starts)))
    keep = np.zeros(len(points), bool)
    keep[by_cell[rank < share]] = True
    rest = order[~keep[order]][: limit - int(keep.sum())]
    keep[rest] = True
    return [points[i] for i in np.flatnonzero(keep)]
