"""Scale from distances that were measured: places marked in photos or in space, and bars between them.

A place marked in two photos or more is where its rays miss the marks least (Gauss-Newton on the reprojection error); its
covariance follows from how well a mark is set. The scale is the weighted least-squares answer to ``s d_i = L_i`` over all
bars but those that only check it, each as sure as its measured length and its two ends are.

References
----------
Hartley, R., Sturm, P. (1997). Triangulation. Computer Vision and Image Understanding 68(2), 146-157.
Luhmann, T., Robson, S., Kyle, S., Boehm, J. (2020). Close-Range Photogrammetry and 3D Imaging, 3rd ed., ch. 4.4.3 (scale bars).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera, project, undistort
from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say

Array = NDArray[np.float64]

#: how well a mark is set in a photo (pixels, one standard deviation)
MARK_PX = 0.7
#: least angle (degrees) between the rays of a place that is marked in photos
LEAST_ANGLE = 1.0


@dataclass(frozen=True)
class Place:
    """A place in the model's frame (3,), its covariance (3, 3), and how far marks miss it at most (pixels; 0 without)."""

    at: Array
    covariance: Array
    miss_px: float = 0.0


@dataclass(frozen=True)
class Bar:
    """A measured distance between two places.

    ``length`` and ``sigma`` (how well it was measured, one standard deviation) are in metres; a bar that only ``checks`` takes
    no part in the fit.
    """

    name: str
    a: Place
    b: Place
    length: float
    sigma: float
    checks: bool = False

    @property
    def distance(self) -> float:
        """Between its ends in the model, without unit."""
        return float(np.linalg.norm(self.b.at - self.a.at))

    @property
    def distance_sigma(self) -> float:
        """How well that is known."""
        u = (self.b.at - self.a.at) / max(self.distance, 1e-30)
        return float(np.sqrt(u @ (self.a.covariance + self.b.covariance) @ u))


@dataclass(frozen=True)
class Scale:
    """Metres to a unit of the model, one standard deviation of it as a share, and by how much each bar misses (m)."""

    factor: float
    sigma: float
    misses: tuple[float, ...]


def place_from_marks(pixels: Array, lenses: Sequence[Camera], rotations: Array, centers: Array) -> Place:
    """The place that is marked in some photos.

    Parameters
    ----------
    pixels : (K, 2)
        Marks, one in each photo, at full size.
    lenses : K cameras; rotations : (K, 3, 3); centers : (K, 3)

    Raises
    ------
    PlainError
        With fewer than two photos, or when they look along one ray.
    """
    if len(pixels) < 2:
        raise PlainError("A place has to be marked in two photos at least.", "Mark it in another photo too.")
    rays = np.stack([np.append(undistort(px[None], c)[0], 1.0) @ r for px, c, r in zip(pixels, lenses, rotations)])
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    if (rays @ rays.T).min() > np.cos(np.radians(LEAST_ANGLE)):
        raise PlainError(
            "The photos in which a place is marked look at it from nearly the same side.",
            "Mark it in a photo from another side too.",
        )
    across = np.eye(3) - rays[:, :, None] * rays[:, None, :]
    x = np.linalg.solve(across.sum(0), np.einsum("kij,kj->i", across, centers))
    reach = float(np.linalg.norm(centers - x, axis=1).mean())
    for _ in range(10):
        residual, jacobian = _marks_at(x, pixels, lenses, rotations, centers, 1e-6 * reach)
        step = np.linalg.lstsq(jacobian, -residual, rcond=None)[0]
        x = x + step
        if np.linalg.norm(step) < 1e-10 * reach:
            break
    residual, jacobian = _marks_at(x, pixels, lenses, rotations, centers, 1e-6 * reach)
    # marks that miss by more than they were thought to are as good as they show
    spread = float((residual**2).sum()) / max(2 * len(pixels) - 3, 1)
    covariance = np.asarray(np.linalg.inv(jacobian.T @ jacobian) * max(spread, MARK_PX**2), np.float64)
    return Place(x, covariance, float(np.linalg.norm(residual.reshape(-1, 2), axis=1).max()))


def _marks_at(
    x: Array, pixels: Array, lenses: Sequence[Camera], rotations: Array, centers: Array, step: float
) -> tuple[Array, Array]:
    """Residuals (2 K,) of marks and their Jacobian (2 K, 3), by central differences of ``step``."""
    moved = np.concatenate([x[None], *(x + step * s * np.eye(3)[k][None] for k in range(3) for s in (1, -1))])
    seen = np.stack([project(c, r, o, moved)[0] for c, r, o in zip(lenses, rotations, centers)])
    residual = (seen[:, 0] - pixels).ravel()
    jacobian = np.stack([(seen[:, 1 + 2 * k] - seen[:, 2 + 2 * k]).ravel() for k in range(3)], 1) / (2 * step)
    return residual, jacobian


def scale_from_bars(bars: Sequence[Bar]) -> Scale:
    """The scale that measured distances give.

    Raises
    ------
    PlainError
        Without a bar that takes part, or when a bar's ends are one place.
    """
    for bar in bars:
        if bar.distance <= 3 * bar.distance_sigma or bar.length <= 0:
            raise PlainError(
                say("The ends of {bar} are too close together to tell a distance.", bar=bar.name),
                "Choose places that are far apart, and mark them in photos from different sides.",
            )
    fit = [b for b in bars if not b.checks]
    if not fit:
        raise PlainError("All measured distances only check.", "Let one of them give the scale.")
    d, length = np.array([b.distance for b in fit]), np.array([b.length for b in fit])
    factor = float(np.median(length / d))
    for _ in range(5):  # how well the ends are known counts in metres, which takes the scale
        variance = np.array([b.sigma**2 + (factor * b.distance_sigma) ** 2 for b in fit])
        weight = 1.0 / np.maximum(variance, 1e-30)
        factor = float((weight * d * length).sum() / (weight * d * d).sum())
    misses = tuple(factor * b.distance - b.length for b in bars)
    sigma = float(1.0 / np.sqrt((weight * d * d).sum()))
    if len(fit) > 1:
        chi2 = float((weight * (factor * d - length) ** 2).sum()) / (len(fit) - 1)
        sigma *= max(1.0, np.sqrt(chi2))
    return Scale(factor, sigma / factor, misses)
