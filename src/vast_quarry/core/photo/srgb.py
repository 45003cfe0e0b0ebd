"""The tone curve of sRGB (IEC 61966-2-1), both ways."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

_CODED = np.arange(256) / 255.0
#: linear light (256,) of each 8-bit value
LINEAR = np.where(_CODED <= 0.04045, _CODED / 12.92, ((_CODED + 0.055) / 1.055) ** 2.4).astype(np.float32)


def linear(rgb: NDArray[np.uint8]) -> NDArray[np.float32]:
    """Linear light (0..1) of 8-bit sRGB values."""
    return np.asarray(cv2.LUT(rgb, LINEAR)) if rgb.ndim > 1 else LINEAR[rgb]


def coded(light: NDArray) -> NDArray:
    """sRGB values (0..1) of linear light in 0..1."""
    return np.where(light <= 0.0031308, 12.92 * light, 1.055 * np.power(light, 1 / 2.4) - 0.055)
