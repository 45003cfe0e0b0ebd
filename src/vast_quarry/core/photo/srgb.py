"""The tone curve of sRGB (IEC 61966-2-1), both ways."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray


@lru_cache
def _lights(count: int) -> NDArray[np.float32]:
    coded_ = np.arange(count) / (count - 1)
    return np.where(coded_ <= 0.04045, coded_ / 12.92, ((coded_ + 0.055) / 1.055) ** 2.4).astype(np.float32)


#: linear light (256,) of each 8-bit value
LINEAR = _lights(256)


def linear(rgb: NDArray) -> NDArray[np.float32]:
    """Linear light (0..1) of sRGB values of 8 or 16 bits."""
    if rgb.dtype == np.uint16:
        return _lights(65536)[rgb]
    return np.asarray(cv2.LUT(rgb, LINEAR)) if rgb.ndim > 1 else LINEAR[rgb]


def coded(light: NDArray) -> NDArray:
    """sRGB values (0..1) of linear light in 0..1."""
    return np.where(light <= 0.0031308, 12.92 * light, 1.055 * np.power(light, 1 / 2.4) - 0.055)
