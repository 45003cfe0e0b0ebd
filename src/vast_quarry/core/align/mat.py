"""Scale and level from a printed marker mat: its markers in the photos, their corners in space, the mat laid over them.

Corners of coded markers are found in each photo, triangulated from all aligned photos that show them (two rays at least,
without those that miss by more than a few pixels), and the mat's known places are laid over them by a similarity; corners
that fit badly are left out and it is laid anew.

References
----------
Olson, E. (2011). AprilTag: a robust and flexible visual fiducial system. ICRA.
Umeyama, S. (1991). Least-squares estimation of transformation parameters between two point patterns. PAMI 13.
"""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera, project, undistort
from vast_quarry.core.errors import PlainError
from vast_quarry.core.pose import Similarity, fit_similarity
from vast_quarry.core.words import say

Array = NDArray[np.float64]

#: a corner that misses its place in a photo by more is not what it seems (pixels)
MISS_PX = 3.0
#: a corner that misses its place on the mat by more than so many times the median is left out
FAR = 4.0
#: corners that a mat has to show in space
LEAST = 6


@dataclass(frozen=True)
class FoundMarkers:
    """Markers in one photo: numbers (K,) and corners (K, 4, 2) in pixels, clockwise from the top left as printed."""

    numbers: NDArray[np.int64]
    corners: Array

    def only(self, wanted: Container[int]) -> FoundMarkers:
        """Those whose number is wanted."""
        keep = np.array([int(n) in wanted for n in self.numbers], bool)
        return FoundMarkers(self.numbers[keep], self.corners[keep])


@dataclass(frozen=True)
class LaidMat:
    """A mat laid over a model.

    Attributes
    ----------
    into : Similarity
        From the model to the mat in metres: x, y on the mat from its middle, z up from it.
    corners : int
        Corners that it rests on.
    residual_mm : float
        Root mean square distance of these corners from their places.
    """

    into: Similarity
    corners: int
    residual_mm: float


def find_markers(gray: NDArray[np.uint8]) -> FoundMarkers:
    """Markers of the family 36h11 in a photo (H, W)."""
    parameters = cv2.aruco.DetectorParameters()
    parameters.cornerRefinementMethod = cv2.aruco.CORNER_REFINE_SUBPIX
    parameters.cornerRefinementWinSize = 4
    # small markers are found better at twice the size
    scale = 2 if max(gray.shape) < 3000 else 1
    if scale > 1:
        gray = np.asarray(cv2.resize(gray, None, fx=scale, fy=scale, interpolation=cv2.INTER_CUBIC), np.uint8)
    family = cv2.aruco.getPredefinedDictionary(cv2.aruco.DICT_APRILTAG_36h11)
    corners, numbers, _ = cv2.aruco.ArucoDetector(family, parameters).detectMarkers(gray)
    if numbers is None or not len(numbers):
        return FoundMarkers(np.zeros(0, np.int64), np.zeros((0, 4, 2)))
    at = np.stack([c.reshape(4, 2) for c in corners]).astype(float)
    # pixel centres are at whole numbers; a picture made larger moves them by a part of a pixel
    at = (at + 0.5) / scale - 0.5
    return FoundMarkers(numbers.ravel().astype(np.int64), at)


def _ray_meet(centers: Array, directions: Array) -> Array:
    """Where rays (n, 3) meet in the least-squares sense (3,)."""
    p = np.eye(3) - directions[:, :, None] * directions[:, None, :]
    return np.linalg.solve(p.sum(0), np.einsum("nij,nj->i", p, centers))


def corners_in_space(
    found: Sequence[FoundMarkers], lenses: Sequence[Camera], rotations: Array, centers: Array
) -> dict[tuple[int, int], Array]:
    """Places (3,) of marker corners by (number, corner), from two photos or more that agree."""
    seen: dict[tuple[int, int], list[tuple[int, Array]]] = {}
    for k, f in enumerate(found):
        for number, four in zip(f.numbers, f.corners):
            for c in range(4):
                seen.setdefault((int(number), c), []).append((k, four[c]))
    out = {}
    for key, rays in seen.items():
        while len(rays) >= 2:
            index = [k for k, _ in rays]
            d = np.stack([np.append(undistort(px[None], lenses[k])[0], 1.0) @ rotations[k] for k, px in rays])
            d /= np.linalg.norm(d, axis=1, keepdims=True)
            if (d @ d.T).min() > np.cos(np.radians(2.0)):
                break  # as good as one ray: no depth
            x = _ray_meet(centers[index], d)
            miss = [
                float(np.linalg.norm(project(lenses[k], rotations[k], centers[k], x[None])[0][0] - px))
                for k, px in rays
            ]
            if max(miss) <= MISS_PX:
                out[key] = x
                break
            rays.pop(int(np.argmax(miss)))
    return out


def lay_mat(markers: Mapping[int, Array], space: Mapping[tuple[int, int], Array]) -> LaidMat:
    """Lay a mat over the corners found in space.

    Parameters
    ----------
    markers : mapping
        Corners (4, 2) in mm of each marker by number, as the mat's JSON has them.
    space : mapping
        As :func:`corners_in_space` gives them.

    Raises
    ------
    PlainError
        When too little of the mat is seen, or what is seen is not this mat.
    """
    keys = [k for k in space if k[0] in markers]
    if len(keys) < LEAST:
        raise PlainError(
            say(
                "Too little of the marker mat is seen: {count} corners of its markers in two photos or more.",
                count=len(keys),
            ),
            "Take sharper or nearer photos of it, or check that the right mat is chosen.",
        )
    model = np.stack([space[k] for k in keys])
    mat = np.array([[*markers[n][c], 0.0] for n, c in keys]) / 1000
    use = np.ones(len(keys), bool)
    for _ in range(5):
        into = fit_similarity(model[use], mat[use])
        off = np.linalg.norm(into.points(model) - mat, axis=1)
        keep = off <= max(FAR * float(np.median(off[use])), 1e-6)
        if keep.sum() < LEAST or (keep == use).all():
            break
        use = keep
    residual = 1000 * float(np.sqrt((off[use] ** 2).mean()))
    size = 1000 * float(np.ptp(mat[use], axis=0).max())
    if residual > 0.02 * size:
        raise PlainError(
            say(
                "What the photos show is not this mat: its corners miss their places by {residual} mm.",
                residual=round(residual, 1),
            ),
            "Choose the mat that was printed, and measure its ruler.",
        )
    return LaidMat(into, int(use.sum()), residual)
