"""Directions spread evenly over the sphere."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def even_directions(count: int) -> NDArray[np.float64]:
    """Unit vectors (count, 3) spread evenly over the sphere (Fibonacci spiral)."""
    i = np.arange(count) + 0.5
    z = 1 - 2 * i / count
    a = i * np.pi * (3 - np.sqrt(5))
    r = np.sqrt(1 - z * z)
    return np.stack([r * np.cos(a), r * np.sin(a), z], 1)
