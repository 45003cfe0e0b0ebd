"""Two-view geometry: which matches obey one epipolar geometry, and how two cameras stand to each other.

Robust estimation is LO-RANSAC with minimal solvers from PoseLib.

References
----------
Hartley, R., Zisserman, A. (2004). Multiple View Geometry in Computer Vision, 2nd ed., ch. 9-11.
Nister, D. (2004). An efficient solution to the five-point relative pose problem. IEEE TPAMI 26(6).
Larsson, V. and contributors. PoseLib - minimal solvers for camera pose estimation (2020).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import poselib
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera, undistort

Array = NDArray[np.floating]
#: fewest matches that make two photos a pair
FEWEST = 14
#: matches from which a geometry is sought; all are held against it
ENOUGH = 500


@dataclass
class RelativePose:
    """Second camera against the first: ``X2 = R X1 + t``, ``|t| = 1``; which matches agree; their median angle."""

    rotation: Array
    translation: Array
    inliers: NDArray[np.bool_]
    angle_deg: float


def verify(x1: Array, x2: Array, threshold: float, seed: int = 0) -> tuple[NDArray[np.bool_], Array]:
    """Which matches obey one fundamental matrix, and that matrix.

    Parameters
    ----------
    x1, x2 : (N, 2)
        Matched pixels.
    threshold : float
        Greatest epipolar distance in pixels.

    Returns
    -------
    inliers : (N,) bool
        All False when too few agree for it to be no chance.
    fundamental : (3, 3)
        With ``x2^T F x1 = 0``.
    """
    none = np.zeros(len(x1), bool)
    if len(x1) < FEWEST:
        return none, np.zeros((3, 3))
    options = {"max_epipolar_error": threshold, "max_iterations": 4000, "min_iterations": 100, "seed": seed}
    x1, x2 = x1.astype(float), x2.astype(float)
    some = np.linspace(0, len(x1) - 1, min(len(x1), ENOUGH)).astype(int)
    fundamental, info = poselib.estimate_fundamental(x1[some], x2[some], options, {})
    if len(some) == len(x1):
        inliers = np.asarray(info["inliers"], bool)
    else:
        inliers = sampson(x1, x2, np.asarray(fundamental)) < threshold
    if inliers.sum() < FEWEST or inliers.mean() < (0.2 if inliers.sum() >= 24 else 0.4):
        return none, np.zeros((3, 3))
    return inliers, np.asarray(fundamental)


def sampson(x1: Array, x2: Array, fundamental: Array) -> Array:
    """First-order distance (N,) in pixels of matches (N, 2) from obeying ``x2^T F x1 = 0`` (Hartley & Zisserman, 11.4.3)."""
    one = np.ones((len(x1), 1))
    h1, h2 = np.concatenate([x1, one], 1), np.concatenate([x2, one], 1)
    right, left = h1 @ fundamental.T, h2 @ fundamental
    steep = (right[:, :2] ** 2).sum(1) + (left[:, :2] ** 2).sum(1)
    return np.asarray(np.abs((h2 * right).sum(1)) / np.sqrt(np.maximum(steep, 1e-30)))


def _plain_camera(focal: float) -> dict:
    return {"model": "SIMPLE_PINHOLE", "width": 2, "height": 2, "params": [focal, 0.0, 0.0]}


def relative_pose(x1: Array, x2: Array, cam1: Camera, cam2: Camera, threshold: float) -> RelativePose | None:
    """Relative pose of two calibrated cameras from matched pixels (N, 2), or None."""
    if len(x1) < FEWEST:
        return None
    n1, n2 = undistort(x1, cam1), undistort(x2, cam2)
    f1, f2 = cam1.fx, cam2.fx
    options = {"max_epipolar_error": threshold, "max_iterations": 10000, "min_iterations": 300, "seed": 0}
    pose, info = poselib.estimate_relative_pose(n1 * f1, n2 * f2, _plain_camera(f1), _plain_camera(f2), options, {})
    inliers = np.asarray(info["inliers"], bool)
    if inliers.sum() < FEWEST:
        return None
    rotation, t = np.asarray(pose.R), np.asarray(pose.t)
    d1 = np.concatenate([n1, np.ones((len(n1), 1))], 1)
    d2 = np.concatenate([n2, np.ones((len(n2), 1))], 1) @ rotation
    cosine = (d1 * d2).sum(1) / np.linalg.norm(d1, axis=1) / np.linalg.norm(d2, axis=1)
    angle = np.degrees(np.arccos(np.clip(cosine[inliers], -1, 1)))
    # what remains once the rotation is taken out is parallax
    return RelativePose(rotation, t, inliers, float(np.median(angle)))
