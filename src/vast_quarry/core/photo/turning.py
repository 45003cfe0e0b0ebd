"""Degrees gained about the subject, measured while a video is looked through: the angle that rays to what is seen turn by.

Corners are followed from frame to frame until they have moved a good part of the picture; then the two ends of that stretch
are a pair of photos. If a rotation alone explains how they moved, nothing was gained: that was shake, or a pan. Else the
relative pose is found (five points, robustly), and with the rotation taken out the rays to a place meet at the angle that
the camera went round it. A place near the subject's middle counts, so the middle of these angles is taken. The focal length is a
guess; it hardly matters here.

References
----------
Nister, D. (2004). An efficient solution to the five-point relative pose problem. IEEE TPAMI 26(6).
Lucas, B., Kanade, T. (1981). An iterative image registration technique with an application to stereo vision. IJCAI.
"""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
import poselib
from numpy.typing import NDArray

Array = NDArray[np.float64]
Picture = NDArray[np.uint8]

#: corners followed, and the fewest that say anything
CORNERS, FEWEST = 140, 24
#: a stretch ends when its corners have moved so far (share of the width), or this many frames have passed
MOVED, LONGEST = 0.055, 45
#: guessed focal length as a share of the longer side
FOCAL = 1.0
#: what is seen lies behind the subject more often than before it: so many hundredths of the angles are smaller than its own
NEAR = 60
#: error of a followed corner in pixels
ERROR = 0.5


class TurnMeter:
    """Told one grey picture after the other; knows the degrees gained from each to the next."""

    def __init__(self) -> None:
        self._gained: list[float] = []
        self._before: Picture | None = None
        self._from = np.zeros((0, 2), np.float32)
        self._at = np.zeros((0, 2), np.float32)
        self._steps: list[float] = []
        self._told = 0

    def tell(self, grey: Picture) -> None:
        """The next picture."""
        same = self._before is not None and self._before.shape == grey.shape
        self._told += 1
        if same and self._told % 2 and self._steps:
            # corners move so little from one picture to the next that every second one is enough
            self._steps.append(self._steps[-1])
            return
        if not same or not self._follow(grey):
            self._share_out()
            # corners that were lost say nothing of how far it went meanwhile
            self._gained.append(float("nan") if same and len(self._from) >= FEWEST else 0.0)
            self._begin(grey)
        elif len(self._steps) >= LONGEST or self._far() > MOVED * grey.shape[1]:
            self._share_out()
            self._begin(grey)
        self._before = grey

    def degrees(self) -> Array:
        """Degrees gained since the picture before (n,); NaN where a still backdrop, or corners that were lost, keep them from being known."""
        self._share_out()
        return np.array(self._gained)

    def _far(self) -> float:
        return float(np.median(np.linalg.norm(self._at - self._from, axis=1)))

    def _follow(self, grey: Picture) -> bool:
        if len(self._at) < FEWEST or self._before is None:
            return False
        nothing: Any = None
        there, ok, _ = cv2.calcOpticalFlowPyrLK(
            self._before, grey, self._at[:, None], nothing, winSize=(15, 15), maxLevel=3
        )
        good = ok.ravel() > 0
        h, w = grey.shape
        q = there.reshape(-1, 2)
        good &= (q > 2).all(1) & (q < [w - 3, h - 3]).all(1)
        if good.sum() < FEWEST:
            return False
        step = np.linalg.norm(q[good] - self._at[good], axis=1)
        self._from, self._at = self._from[good], q[good].astype(np.float32)
        self._steps.append(float(np.median(step)))
        return True

    def _share_out(self) -> None:
        """End a stretch: what it gained is shared out over its pictures by how far each moved."""
        if self._steps and self._before is not None:
            gained = turned_by(self._from.astype(float), self._at.astype(float), self._before.shape)
            share = np.array(self._steps) / max(float(np.sum(self._steps)), 1e-9)
            self._gained += (gained * share).tolist()
        self._steps = []

    def _begin(self, grey: Picture) -> None:
        """Begin a stretch with fresh corners."""
        corners = cv2.goodFeaturesToTrack(grey, CORNERS, 0.01, 6)
        self._from = np.zeros((0, 2), np.float32) if corners is None else corners.reshape(-1, 2).astype(np.float32)
        self._at = self._from.copy()


def turned_by(p: Array, q: Array, shape: tuple[int, ...]) -> float:
    """Degrees that rays to the places of a picture turn by between corners (n, 2) at its beginning and at its end."""
    h, w = shape[:2]
    length = np.linalg.norm(q - p, axis=1)
    still = float((length < 0.02 * np.percentile(length, 95) + 0.2).mean()) if len(p) else 0.0
    if still > 0.1 and np.percentile(length, 80) > 2.0:
        # a backdrop that stands still behind what turns: what turns alone fills too little of the picture for a pose
        return float("nan")
    if len(p) < FEWEST or np.median(length) < 1.0:
        return 0.0
    f = FOCAL * max(w, h)
    middle = np.array([(w - 1) / 2, (h - 1) / 2])
    camera = {"model": "SIMPLE_PINHOLE", "width": w, "height": h, "params": [f, 0.0, 0.0]}
    options = {"max_epipolar_error": 2 * ERROR, "max_iterations": 500, "min_iterations": 60, "seed": 0}
    pose, info = poselib.estimate_relative_pose(p - middle, q - middle, camera, camera, options, {})
    inlier = np.asarray(info["inliers"], bool)
    if inlier.sum() < FEWEST:
        return 0.0
    d1, d2 = (np.concatenate([(x[inlier] - middle) / f, np.ones((int(inlier.sum()), 1))], 1) for x in (p, q))
    d1, d2 = (d / np.linalg.norm(d, axis=1, keepdims=True) for d in (d1, d2))
    # a rotation alone explains it: nothing gained
    u, _, vt = np.linalg.svd(d2.T @ d1)
    only = u @ np.diag([1.0, 1.0, np.sign(np.linalg.det(u @ vt))]) @ vt
    if np.median(np.linalg.norm(d2 - d1 @ only.T, axis=1)) * f < ERROR:
        return 0.0
    angle = np.degrees(np.arccos(np.clip((d2 * (d1 @ np.asarray(pose.R).T)).sum(1), -1, 1)))
    return float(np.percentile(angle, NEAR))
