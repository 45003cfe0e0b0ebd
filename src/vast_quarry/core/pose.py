"""Rotations, look-at poses and similarity transforms.

Poses follow OpenCV's axes: a camera has a rotation ``R`` (world to camera, x right, y down, z forward)
and a centre ``C`` in the world, so that ``X_cam = R (X - C)``.

References
----------
Umeyama, S. (1991). Least-squares estimation of transformation parameters between two point patterns.
IEEE TPAMI 13(4), 376-380.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]


def skew(v: ArrayLike) -> Array:
    """Matrix of the cross product, shape (3, 3), of a vector of shape (3,)."""
    x, y, z = np.asarray(v, dtype=float)
    return np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])


def rotation_from_vector(w: ArrayLike) -> Array:
    """Rodrigues' formula: rotation matrix (3, 3) of the rotation vector ``w`` (3,), in radians.

    Examples
    --------
    >>> import numpy as np
    >>> bool(np.allclose(rotation_from_vector([0, 0, np.pi / 2]) @ [1, 0, 0], [0, 1, 0]))
    True
    """
    w = np.asarray(w, dtype=float)
    theta = float(np.linalg.norm(w))
    if theta < 1e-12:
        return np.eye(3) + skew(w)
    k = skew(w / theta)
    return np.eye(3) + np.sin(theta) * k + (1.0 - np.cos(theta)) * (k @ k)


def rotation_angle_deg(rotation: ArrayLike) -> float:
    """Angle of a rotation matrix in degrees, accurate for tiny angles."""
    r = np.asarray(rotation, dtype=float)
    w = np.array([r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1]]) / 2.0
    return float(np.degrees(np.arctan2(np.linalg.norm(w), (np.trace(r) - 1.0) / 2.0)))


def rotation_between(a: ArrayLike, b: ArrayLike) -> Array:
    """Smallest rotation (3, 3) that turns direction ``a`` (3,) into direction ``b`` (3,)."""
    u, v = np.asarray(a, dtype=float), np.asarray(b, dtype=float)
    u, v = u / np.linalg.norm(u), v / np.linalg.norm(v)
    axis = np.cross(u, v)
    sine, cosine = float(np.linalg.norm(axis)), float(u @ v)
    if sine < 1e-12:
        if cosine > 0:
            return np.eye(3)
        helper = np.eye(3)[int(np.argmin(np.abs(u)))]
        axis = np.cross(u, helper)
        return rotation_from_vector(axis / np.linalg.norm(axis) * np.pi)
    return rotation_from_vector(axis / sine * np.arctan2(sine, cosine))


def look_at(center: ArrayLike, target: ArrayLike, up: ArrayLike = (0, 0, 1), roll_deg: float = 0.0) -> Array:
    """Rotation world to camera (3, 3) of a camera at ``center`` that looks at ``target``, image top towards ``up``."""
    forward = np.asarray(target, dtype=float) - np.asarray(center, dtype=float)
    forward /= np.linalg.norm(forward)
    right = np.cross(forward, np.asarray(up, dtype=float))
    if np.linalg.norm(right) < 1e-9:
        right = np.cross(forward, [1.0, 0.0, 0.0])
    right /= np.linalg.norm(right)
    down = np.cross(forward, right)
    a = np.radians(roll_deg)
    return np.stack([np.cos(a) * right + np.sin(a) * down, -np.sin(a) * right + np.cos(a) * down, forward])


@dataclass(frozen=True)
class Similarity:
    """``X_new = scale * rotation @ X + shift``."""

    scale: float
    rotation: Array
    shift: Array

    def points(self, x: ArrayLike) -> Array:
        """Transform points of shape (N, 3)."""
        return self.scale * np.asarray(x, dtype=float) @ self.rotation.T + self.shift

    def directions(self, d: ArrayLike) -> Array:
        """Turn directions of shape (N, 3); their length is kept."""
        return np.asarray(d, dtype=float) @ self.rotation.T

    def pose(self, rotation: Array, center: Array) -> tuple[Array, Array]:
        """Transform a camera pose (rotation world to camera, centre)."""
        return rotation @ self.rotation.T, self.points(center[None])[0]

    def inverse(self) -> Similarity:
        """The transform that undoes this one."""
        return Similarity(1.0 / self.scale, self.rotation.T, -self.rotation.T @ self.shift / self.scale)

    def after(self, first: Similarity) -> Similarity:
        """The transform that applies ``first`` and then this one."""
        return Similarity(
            self.scale * first.scale,
            self.rotation @ first.rotation,
            self.scale * self.rotation @ first.shift + self.shift,
        )


def fit_similarity(source: ArrayLike, target: ArrayLike, with_scale: bool = True) -> Similarity:
    """Least-squares similarity from ``source`` to ``target``, both of shape (N, 3), N >= 3 (Umeyama 1991)."""
    a, b = np.asarray(source, dtype=float), np.asarray(target, dtype=float)
    if a.shape != b.shape or len(a) < 3:
        raise ValueError("needs two arrays of the same shape (N, 3) with N >= 3")
    mean_a, mean_b = a.mean(0), b.mean(0)
    u, d, vt = np.linalg.svd((b - mean_b).T @ (a - mean_a) / len(a))
    sign = np.diag([1.0, 1.0, np.sign(np.linalg.det(u) * np.linalg.det(vt))])
    rotation = u @ sign @ vt
    variance = ((a - mean_a) ** 2).sum(1).mean()
    scale = float(np.trace(np.diag(d) @ sign) / variance) if with_scale else 1.0
    return Similarity(scale, rotation, mean_b - scale * rotation @ mean_a)
