"""SIFT features with root normalisation.

References
----------
Lowe, D. G. (2004). Distinctive image features from scale-invariant keypoints. IJCV 60(2), 91-110.
Morel, J.-M., Yu, G. (2009). ASIFT: a new framework for fully affine invariant image comparison. SIAM J. Imaging Sci. 2(2)
(views simulated by tilts).
Arandjelovic, R., Zisserman, A. (2012). Three things everyone should know to improve object retrieval. CVPR.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.mask.files import depth_inside
from vast_quarry.core.match.sift import Blobs, blobs, described

#: RootSIFT values (0..1) are kept as bytes: value * STEP, rounded
STEP = 512.0
#: softening along the rows that are joined, times the root of the squared tilt less 1 (Morel and Yu 2009, section 3)
TILT_SOFTENS = 0.8


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
    #: how many a mask left out, and how many there were without it
    left_out: int = 0
    found: int = 0

    def __len__(self) -> int:
        return len(self.xy)


def root_normalised(descriptors: NDArray[np.float32]) -> NDArray[np.float32]:
    """Square roots of L1-normalised descriptors (N, 128): their dot product is the Hellinger kernel."""
    total = np.maximum(np.abs(descriptors).sum(1, keepdims=True), 1e-9)
    return np.sqrt(np.maximum(descriptors, 0) / total).astype(np.float32)


def find_features(
    rgb: NDArray[np.uint8],
    full_size: tuple[int, int],
    limit: int,
    mask: NDArray[np.bool_] | None = None,
    tilts: Sequence[float] = (),
) -> Features:
    """Detect and describe features of a photo.

    Parameters
    ----------
    rgb : (H, W, 3) uint8
        The upright photo, perhaps smaller than the original.
    full_size : (int, int)
        Width and height of the original, to give positions in its pixels: sides are made smaller to whole pixels, each by
        its own factor.
    limit : int
        Greatest number of features; those of strongest contrast in each cell of a grid are kept, so that they spread.
    mask : (H, W) bool, optional
        Features outside of it are dropped, and those whose blob reaches over its rim: the backdrop would describe them, and
        the silhouette itself is no feature.
    tilts : sequence of float
        Features are sought besides in the photo made lower by these factors, as a camera from higher up or further down
        would see it (half as many in each): what is seen from heights far apart matches only so.
    """
    seen = [_seen(rgb, full_size, limit, mask)]
    high, wide = rgb.shape[:2]
    for t in tilts:
        # what is left out when rows are joined must not fold back: as far as SIFT's own smoothing between octaves
        soft = cv2.GaussianBlur(rgb, (0, 0), sigmaX=0.01, sigmaY=TILT_SOFTENS * float(np.sqrt(1 / t**2 - 1)))
        low = (wide, max(1, round(high * t)))
        small = cv2.resize(soft, low, interpolation=cv2.INTER_LINEAR)
        left = None if mask is None else cv2.resize(mask.astype(np.uint8), low, interpolation=cv2.INTER_AREA) > 0
        seen.append(_seen(np.asarray(small, np.uint8), full_size, limit // 2, left))
    return Features(
        np.concatenate([f.xy for f in seen]),
        np.concatenate([f.scale for f in seen]),
        np.concatenate([f.descriptors for f in seen]),
        np.concatenate([f.colors for f in seen]),
        seen[0].left_out,
        seen[0].found,
    )


def _seen(rgb: NDArray[np.uint8], full_size: tuple[int, int], limit: int, mask: NDArray[np.bool_] | None) -> Features:
    """Features of one view of a photo, at places of the original."""
    gray = np.asarray(cv2.cvtColor(rgb, cv2.COLOR_RGB2GRAY), np.uint8)
    high, wide = gray.shape
    found, layers = blobs(gray)
    chosen = np.arange(len(found)) if mask is None else _within(found, mask)
    left_out = len(found) - len(chosen)
    chosen = chosen[_spread(found.xy[chosen], found.response[chosen], wide, high, limit)]
    all_of_them = described(layers, found, chosen, limit)
    blob = all_of_them.blob
    xy = found.xy[blob]
    ij = np.round(xy).astype(int).clip(0, [wide - 1, high - 1])
    factor = np.array(full_size, np.float32) / (wide, high)
    packed = np.minimum(root_normalised(all_of_them.descriptors) * STEP + 0.5, 255).astype(np.uint8)
    scale = 2 * found.scale[blob] * float(factor.mean())
    return Features(
        ((xy + 0.5) * factor - 0.5).astype(np.float32), scale.astype(np.float32), packed, rgb[ij[:, 1], ij[:, 0]], left_out,
        len(found),
    )  # fmt: skip


#: a feature lies inside a mask by this share of its diameter, and by so many pixels at least
INSIDE, INSIDE_PX = 0.5, 2.0


def _within(found: Blobs, mask: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Blobs whose neighbourhood lies in the mask."""
    inside = depth_inside(mask)
    high, wide = mask.shape
    ij = np.round(found.xy).astype(int).clip(0, [wide - 1, high - 1])
    return np.flatnonzero(inside[ij[:, 1], ij[:, 0]] > np.maximum(INSIDE_PX, INSIDE * 2 * found.scale))


def _spread(
    xy: NDArray[np.float32], strength: NDArray[np.float32], width: int, height: int, limit: int, cells: int = 12
) -> NDArray[np.int64]:
    """The strongest of some places (N, 2), half of the ``limit`` shared out evenly over a grid; the strongest first."""
    order = np.argsort(-strength, kind="stable")
    if len(xy) <= limit:
        return order
    cell = (xy[:, 0] * cells / width).astype(int) * cells + (xy[:, 1] * cells / height).astype(int)
    by_cell = order[np.argsort(cell[order], kind="stable")]
    starts = np.concatenate([[0], np.flatnonzero(np.diff(cell[by_cell])) + 1])
    rank = np.arange(len(by_cell)) - np.repeat(starts, np.diff([*starts, len(by_cell)]))
    share = max(1, limit // (2 * len(starts)))
    shared = np.zeros(len(xy), bool)
    shared[by_cell[rank < share]] = True
    rest = order[~shared[order]]
    return np.concatenate([order[shared[order]], rest])[:limit]
