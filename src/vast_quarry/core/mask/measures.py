"""How well a mask agrees with another: overlap and distance of their rims."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Mask = NDArray[np.bool_]


def overlap(a: Mask, b: Mask) -> float:
    """Intersection over union; 1 for two empty masks."""
    union = np.count_nonzero(a | b)
    return float(np.count_nonzero(a & b) / union) if union else 1.0


def rim(mask: Mask) -> Mask:
    """Pixels of a mask that touch what is outside it; the frame of the photo is no rim."""
    inner = cv2.erode(np.pad(mask.astype(np.uint8), 1, mode="edge"), np.ones((3, 3), np.uint8))[1:-1, 1:-1] > 0
    return np.asarray(mask & ~inner)


def rim_error(mask: Mask, truth: Mask) -> float:
    """Median distance (pixels) of the mask's rim from the true one and the other way; inf where one has no rim."""
    a, b = rim(mask), rim(truth)
    if not a.any() or not b.any():
        return 0.0 if a.any() == b.any() else float("inf")
    to_truth = cv2.distanceTransform((~b).astype(np.uint8), cv2.DIST_L2, 5)[a]
    to_mask = cv2.distanceTransform((~a).astype(np.uint8), cv2.DIST_L2, 5)[b]
    return float(np.median(np.concatenate([to_truth, to_mask])))
