"""Keying: what is not of the backdrop's colour is the subject.

Colours are compared in CIE L*a*b* with lightness counting less than hue, because a backdrop is unevenly lit; small
specks and pinholes are closed by morphology, and the largest bodies are kept.

References
----------
CIE 015:2018 Colorimetry (L*a*b*, colour differences).
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

#: weight of lightness against a* and b*
LIGHTNESS = 0.35


def key_out(rgb: NDArray[np.uint8], colors: list[tuple[int, int, int]], tolerance: float) -> NDArray[np.bool_]:
    """Mask (H, W), True where a photo (H, W, 3) differs from every backdrop colour.

    Parameters
    ----------
    colors : list of (red, green, blue)
    tolerance : float
        Greatest colour difference (about Delta E) that still counts as backdrop.
    """
    soft = cv2.GaussianBlur(rgb, (0, 0), max(0.6, rgb.shape[1] / 1600))
    lab = cv2.cvtColor(soft.astype(np.float32) / 255.0, cv2.COLOR_RGB2LAB)
    keep = np.ones(rgb.shape[:2], bool)
    scale = np.array([LIGHTNESS, 1.0, 1.0], np.float32)
    for color in colors:
        patch = np.array([[color]], np.float32) / 255.0
        target = cv2.cvtColor(patch, cv2.COLOR_RGB2LAB)[0, 0]
        keep &= np.linalg.norm((lab - target) * scale, axis=2) > tolerance
    size = max(3, int(rgb.shape[1] / 250) | 1)
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
    cleaned = cv2.morphologyEx(keep.astype(np.uint8), cv2.MORPH_OPEN, kernel)
    cleaned = cv2.morphologyEx(cleaned, cv2.MORPH_CLOSE, kernel)
    count, label, stats, _ = cv2.connectedComponentsWithStats(cleaned, connectivity=8)
    if count <= 1:
        return np.zeros(keep.shape, bool)
    area = stats[1:, cv2.CC_STAT_AREA]
    large = np.flatnonzero(area >= 0.02 * area.max()) + 1
    return np.isin(label, large)
