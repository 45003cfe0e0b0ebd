"""Pinhole camera with Brown-Conrady distortion.

With ``x = X/Z``, ``y = Y/Z`` in camera axes and ``r2 = x^2 + y^2``::

    g  = 1 + k1 r2 + k2 r2^2 + k3 r2^3
    xd = x g + 2 p1 x y + p2 (r2 + 2 x^2)
    yd = y g + p1 (r2 + 2 y^2) + 2 p2 x y
    u  = fx xd + cx,   v = fy yd + cy

Pixel centres lie at integer coordinates: the centre of the top-left pixel is (0, 0).

References
----------
Brown, D. C. (1966). Decentering distortion of lenses. Photogrammetric Engineering 32(3), 444-462.
Brown, D. C. (1971). Close-range camera calibration. Photogrammetric Engineering 37(8), 855-866.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numba import njit, prange
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]

#: order of the intrinsic parameters in vectors
INTRINSICS = ("fx", "fy", "cx", "cy", "k1", "k2", "k3", "p1", "p2")


def brown_of(x, y, k1, k2, k3, p1, p2):  # type: ignore[no-untyped-def]
    """Distorted place of an ideal one (the formulas above), of numbers or arrays of any shape."""
    r2 = x * x + y * y
    g = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    return x * g + 2 * p1 * x * y + p2 * (r2 + 2 * x * x), y * g + p1 * (r2 + 2 * y * y) + 2 * p2 * x * y


#: the same for kernels
brown = njit(inline="always")(brown_of)


@njit(error_model="numpy", inline="always")
def brown_slopes(x, y, k1, k2, k3, p1, p2):  # type: ignore[no-untyped-def]
    """How the distorted place moves with the ideal one: d xd / d x, d xd / d y (which is d yd / d x), d yd / d y."""
    r2 = x * x + y * y
    g = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    dg = k1 + r2 * (2 * k2 + 3 * r2 * k3)
    return (
        g + 2 * x * x * dg + 2 * p1 * y + 6 * p2 * x,
        2 * x * y * dg + 2 * p1 * x + 2 * p2 * y,
        g + 2 * y * y * dg + 6 * p1 * y + 2 * p2 * x,
    )


@dataclass(frozen=True)
class Camera:
    """Intrinsics of one camera and lens, for photos of one size; lengths in pixels."""

    width: int
    height: int
    fx: float
    fy: float
    cx: float
    cy: float
    k1: float = 0.0
    k2: float = 0.0
    k3: float = 0.0
    p1: float = 0.0
    p2: float = 0.0

    @staticmethod
    def simple(width: int, height: int, focal: float) -> Camera:
        """Camera without distortion whose axis meets the middle of the photo."""
        return Camera(width, height, focal, focal, (width - 1) / 2.0, (height - 1) / 2.0)

    @property
    def matrix(self) -> Array:
        """Calibration matrix, shape (3, 3)."""
        return np.array([[self.fx, 0.0, self.cx], [0.0, self.fy, self.cy], [0.0, 0.0, 1.0]])

    @property
    def vector(self) -> Array:
        """Parameters in the order of :data:`INTRINSICS`, shape (9,)."""
        return np.array([getattr(self, n) for n in INTRINSICS], dtype=float)

    def with_vector(self, v: ArrayLike) -> Camera:
        """Same photo size, other parameters (9,)."""
        return Camera(self.width, self.height, *(float(x) for x in np.asarray(v, dtype=float)))

    def scaled(self, width: int, height: int) -> Camera:
        """The same lens seen in a photo resampled to another size (pixel edges coincide)."""
        sx, sy = width / self.width, height / self.height
        return replace(
            self,
            width=width,
            height=height,
            fx=self.fx * sx,
            fy=self.fy * sy,
            cx=(self.cx + 0.5) * sx - 0.5,
            cy=(self.cy + 0.5) * sy - 0.5,
        )

    def pinhole(self) -> Camera:
        """The same camera without distortion."""
        return replace(self, k1=0.0, k2=0.0, k3=0.0, p1=0.0, p2=0.0)

    @property
    def distorted(self) -> bool:
        """Whether any distortion coefficient differs from zero."""
        return any((self.k1, self.k2, self.k3, self.p1, self.p2))


def distort(xy: ArrayLike, camera: Camera) -> Array:
    """Ideal normalised coordinates (..., 2) to distorted ones."""
    xy = np.asarray(xy, dtype=float)
    return np.stack(brown_of(xy[..., 0], xy[..., 1], *camera.vector[4:]), axis=-1)


def project(camera: Camera, rotation: ArrayLike, center: ArrayLike, points: ArrayLike) -> tuple[Array, Array]:
    """Project world points.

    Parameters
    ----------
    camera : Camera
    rotation : (3, 3) world to camera
    center : (3,)
    points : (N, 3)

    Returns
    -------
    pixels : (N, 2)
    depth : (N,)
        Along the optical axis; pixels of points with depth <= 0 mean nothing.
    """
    y = (np.asarray(points, dtype=float) - np.asarray(center, dtype=float)) @ np.asarray(rotation, dtype=float).T
    z = y[:, 2]
    safe = np.where(np.abs(z) < 1e-12, 1e-12, z)
    d = distort(y[:, :2] / safe[:, None], camera)
    return d * [camera.fx, camera.fy] + [camera.cx, camera.cy], z


@njit(error_model="numpy", parallel=True, cache=True)
def _undistort(target, k1, k2, k3, p1, p2, iterations, out):  # type: ignore[no-untyped-def]
    for n in prange(target.shape[0]):
        x = target[n, 0]
        y = target[n, 1]
        for _ in range(iterations):
            xd, yd = brown(x, y, k1, k2, k3, p1, p2)
            ex = xd - target[n, 0]
            ey = yd - target[n, 1]
            a, b, d = brown_slopes(x, y, k1, k2, k3, p1, p2)
            det = a * d - b * b
            if abs(det) < 1e-3:
                det = 1e-3
            dx = min(max((d * ex - b * ey) / det, -0.5), 0.5)
            dy = min(max((a * ey - b * ex) / det, -0.5), 0.5)
            x -= dx
            y -= dy
            if dx * dx + dy * dy < 1e-24:
                break
        out[n, 0] = x
        out[n, 1] = y


def undistort(pixels: ArrayLike, camera: Camera, iterations: int = 20) -> Array:
    """Pixels (..., 2) to ideal normalised coordinates (..., 2), by Newton's method.

    Where the lens model folds over (far outside of the picture that fitted it), steps are clipped, so that the
    answer stays finite.
    """
    px = np.asarray(pixels, dtype=float)
    target = (px - [camera.cx, camera.cy]) / [camera.fx, camera.fy]
    if not camera.distorted:
        return target
    flat = np.ascontiguousarray(target.reshape(-1, 2))
    out = np.empty_like(flat)
    _undistort(flat, camera.k1, camera.k2, camera.k3, camera.p1, camera.p2, iterations, out)
    return out.reshape(target.shape)


def view_limit(camera: Camera) -> float:
    """Squared distance from the axis, in normalised coordinates, up to which the lens model may be used.

    A polynomial that fits a wide picture folds back beyond its corners: what lies far outside would be drawn inside. The limit is a
    little beyond the farthest corner, or where the radius stops growing if that comes sooner.
    """
    corners = np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0], [1.0, 1.0]]) * [camera.width - 1, camera.height - 1]
    reach = float(np.linalg.norm((corners - [camera.cx, camera.cy]) / [camera.fx, camera.fy], axis=1).max())
    # the ideal radius of a corner may be larger than the distorted one: more than twice that, and up to where the radius folds
    r = np.linspace(0, 2.5 * reach, 2001)
    grown = brown_of(r, 0.0, camera.k1, camera.k2, camera.k3, 0.0, 0.0)[0]
    falling = np.flatnonzero(np.diff(grown) <= 0)
    beyond = np.flatnonzero(grown > 1.05 * reach)
    last = min(int(falling[0]) if len(falling) else len(r) - 1, int(beyond[0]) if len(beyond) else len(r) - 1)
    return float(r[last] ** 2)


#: pixels up to which maps are kept for the next photo of the same lens
KEPT = 4_000_000


def undistort_maps(camera: Camera, target: Camera) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Where every pixel of the undistorted photo ``target`` lies in the photo of ``camera``.

    Returns
    -------
    map_x, map_y : (height, width) float32
        For ``cv2.remap``.
    """
    # of a set photos of one lens follow one another; maps of large ones are not worth their room
    make = _kept_maps if target.width * target.height <= KEPT else _undistort_maps
    return make(camera, target)


def _undistort_maps(camera: Camera, target: Camera) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    map_x, map_y = np.empty((2, target.height, target.width), np.float32)
    # by bands: in double precision a large photo takes a hundred bytes a pixel
    for first in range(0, target.height, 256):
        rows = np.arange(first, min(first + 256, target.height), dtype=float)
        u, v = np.meshgrid(np.arange(target.width, dtype=float), rows)
        xy = np.stack([(u - target.cx) / target.fx, (v - target.cy) / target.fy], -1)
        px = distort(xy, camera) * [camera.fx, camera.fy] + [camera.cx, camera.cy]
        map_x[first : first + 256], map_y[first : first + 256] = px[..., 0], px[..., 1]
    return map_x, map_y


#: both sizes that a photo is wanted in
_kept_maps = lru_cache(2)(_undistort_maps)
