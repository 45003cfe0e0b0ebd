"""Procedural value noise in three dimensions (numba), for relief and colour of the rig's scenes.

Lattice values come from an integer hash and are blended with the quintic fade curve.

References
----------
Perlin, K. (2002). Improving noise. ACM Transactions on Graphics 21(3), 681-682 (the fade curve).
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray


@njit(error_model="numpy", cache=True, inline="always")
def _lattice(i: int, j: int, k: int, seed: int) -> float:
    h = (
        np.uint32(i) * np.uint32(0x8DA6B343)
        ^ np.uint32(j) * np.uint32(0xD8163841)
        ^ np.uint32(k) * np.uint32(0xCB1AB31F)
    )
    h = np.uint32(h ^ (np.uint32(seed) * np.uint32(0x9E3779B1)))
    h = np.uint32((h ^ (h >> np.uint32(15))) * np.uint32(0x2C1B3C6D))
    h = np.uint32((h ^ (h >> np.uint32(12))) * np.uint32(0x297A2D39))
    h = np.uint32(h ^ (h >> np.uint32(15)))
    return np.float64(h) * (2.0 / 4294967295.0) - 1.0


@njit(error_model="numpy", cache=True)
def value_noise(x: float, y: float, z: float, seed: int) -> float:
    """Smooth noise in [-1, 1] at one place; features about one unit wide."""
    fx, fy, fz = np.floor(x), np.floor(y), np.floor(z)
    i, j, k = np.int64(fx), np.int64(fy), np.int64(fz)
    u, v, w = x - fx, y - fy, z - fz
    u = u * u * u * (u * (u * 6 - 15) + 10)
    v = v * v * v * (v * (v * 6 - 15) + 10)
    w = w * w * w * (w * (w * 6 - 15) + 10)
    a = _lattice(i, j, k, seed) * (1 - u) + _lattice(i + 1, j, k, seed) * u
    b = _lattice(i, j + 1, k, seed) * (1 - u) + _lattice(i + 1, j + 1, k, seed) * u
    c = _lattice(i, j, k + 1, seed) * (1 - u) + _lattice(i + 1, j, k + 1, seed) * u
    d = _lattice(i, j + 1, k + 1, seed) * (1 - u) + _lattice(i + 1, j + 1, k + 1, seed) * u
    return (a * (1 - v) + b * v) * (1 - w) + (c * (1 - v) + d * v) * w


@njit(error_model="numpy", cache=True)
def fbm(x: float, y: float, z: float, scale: float, octaves: int, gain: float, seed: int) -> float:
    """Sum of octaves of noise, the first with features ``scale`` wide; roughly in [-1, 1]."""
    total = 0.0
    amplitude = 1.0
    norm = 0.0
    f = 1.0 / scale
    for o in range(octaves):
        total += amplitude * value_noise(x * f, y * f, z * f, seed + o)
        norm += amplitude
        amplitude *= gain
        f *= 2.03
    return total / norm * 1.6


@njit(error_model="numpy", parallel=True, cache=True)
def fbm_many(points: NDArray[np.float64], scale: float, octaves: int, gain: float, seed: int) -> NDArray[np.float64]:
    """:func:`fbm` at points (N, 3)."""
    out = np.empty(points.shape[0])
    for n in prange(points.shape[0]):
        out[n] = fbm(points[n, 0], points[n, 1], points[n, 2], scale, octaves, gain, seed)
    return out
