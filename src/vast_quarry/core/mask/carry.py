"""Carrying a finished mask over to a neighbouring photo: along features and dense optical flow, then grown anew there.

Between neighbours on a lap the subject turns and moves by much more than flow follows, so matched features lay a smooth warp
first; flow takes up the rest. Where the way there and back ends elsewhere nothing is believed: those places are left to the
colours of the finished photo's subject and background. Sureness is how well the mask that grew there agrees with the one that
was carried; a chain stops where that is low.

References
----------
Kroeger, T., Timofte, R., Dai, D., Van Gool, L. (2016). Fast optical flow using dense inverse search. ECCV.
"""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.mask.edges import enlarged, grab, largest_parts, smaller, without_pinholes
from vast_quarry.core.mask.measures import overlap

Mask = NDArray[np.bool_]
Rgb = NDArray[np.uint8]
SIDE = 480
#: sureness below which a chain stops
ENOUGH = 0.6
#: places that go and come back within this many pixels are believed
BACK = 1.5


def _affine(one: NDArray, other: NDArray, mask: Mask) -> NDArray[np.float64]:
    """Affine map (2, 3) of the subject from one grey picture to another by matched features, or one that moves nothing."""
    sift: Any = cv2.SIFT_create(  # type: ignore[attr-defined]
        nfeatures=1500, contrastThreshold=0.01
    )
    k1, d1 = sift.detectAndCompute(one, cv2.dilate(mask.astype(np.uint8), np.ones((5, 5), np.uint8)))
    k2, d2 = sift.detectAndCompute(other, None)
    still = np.array([[1.0, 0, 0], [0, 1, 0]])
    if d1 is None or d2 is None or len(k1) < 8 or len(k2) < 8:
        return still
    pairs = [p for p in cv2.BFMatcher().knnMatch(d1, d2, k=2) if len(p) == 2]
    good = [a for a, b in pairs if a.distance < 0.8 * b.distance]
    if len(good) < 8:
        return still
    p1 = np.array([k1[m.queryIdx].pt for m in good])
    p2 = np.array([k2[m.trainIdx].pt for m in good])
    found, inside = cv2.estimateAffine2D(p1, p2, ransacReprojThreshold=6.0, maxIters=3000, confidence=0.999)
    if found is None or inside.sum() < 8 or not 0.5 < np.linalg.det(found[:, :2]) < 2.0:
        return still
    return np.asarray(found, np.float64)


def _flow(one: NDArray, other: NDArray) -> NDArray[np.float32]:
    dis: Any = cv2.DISOpticalFlow_create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)  # type: ignore[attr-defined]
    return np.asarray(dis.calc(one, other, None), np.float32)


def alike(one: Rgb, mask: Mask, other: Rgb, other_mask: Mask) -> float:
    """How much the colours inside two masks have in common (0 to 1): the shared part of their histograms, somewhat spread."""
    if not mask.any() or not other_mask.any():
        return 0.0
    shares = []
    for rgb, where in ((one, mask), (other, other_mask)):
        lab = cv2.cvtColor(rgb, cv2.COLOR_RGB2LAB)
        counts = cv2.calcHist([lab], [0, 1, 2], where.astype(np.uint8), [12, 24, 24], [0, 256, 0, 256, 0, 256])
        for axis in range(3):
            counts = 0.5 * counts + 0.25 * (np.roll(counts, 1, axis) + np.roll(counts, -1, axis))
        shares.append(counts / counts.sum())
    return float(np.minimum(*shares).sum())


def carried(source: Rgb, mask: Mask, target: Rgb) -> tuple[Mask, float]:
    """A finished photo's mask carried to another photo of about the same size; and how sure it is (0 to 1).

    Parameters
    ----------
    source : (H, W, 3) uint8, mask : (H, W) bool, target : (H2, W2, 3) uint8
    """
    if not mask.any() or mask.all():
        return np.full(target.shape[:2], bool(mask.all())), 0.0
    small, there = smaller(source, SIDE), smaller(target, SIDE)
    h, w = there.shape[:2]
    small = np.asarray(cv2.resize(small, (w, h), interpolation=cv2.INTER_AREA))
    mine = cv2.resize(mask.astype(np.uint8), (w, h), interpolation=cv2.INTER_AREA) > 0
    g1, g2 = (cv2.cvtColor(p, cv2.COLOR_RGB2GRAY) for p in (small, there))
    cv2.setRNGSeed(1)
    move = _affine(g1, g2, mine)
    moved = cv2.warpAffine(g1, move, (w, h), borderMode=cv2.BORDER_REPLICATE)
    moved_mask = cv2.warpAffine(mine.astype(np.float32), move, (w, h))
    # each place of the target looks back into the moved source
    back, forth = _flow(g2, moved), _flow(moved, g2)
    u, v = np.meshgrid(np.arange(w, dtype=np.float32), np.arange(h, dtype=np.float32))
    at = (u + back[..., 0], v + back[..., 1])
    warped = cv2.remap(moved_mask, *at, interpolation=cv2.INTER_LINEAR)
    again = cv2.remap(forth, *at, interpolation=cv2.INTER_LINEAR)
    believed = np.linalg.norm(back + again, axis=2) < BACK
    rough = warped > 0.5
    if not rough.any():
        return np.zeros(target.shape[:2], bool), 0.0
    reach = max(3.0, 0.025 * max(h, w))
    deep = cv2.distanceTransform(np.pad(rough.astype(np.uint8), 1, mode="edge"), cv2.DIST_L2, 5)[1:-1, 1:-1]
    far = cv2.distanceTransform((~rough).astype(np.uint8), cv2.DIST_L2, 5)
    labels = np.where(rough, cv2.GC_PR_FGD, cv2.GC_PR_BGD).astype(np.uint8)
    labels[(deep > reach) | (rough & believed & (deep > 0.4 * reach))] = cv2.GC_FGD
    labels[(far > 2 * reach) | (~rough & believed & (far > 0.6 * reach))] = cv2.GC_BGD
    grown = grab(there, labels, 3)
    grown = without_pinholes(largest_parts(grown, 0.05), 0.004 * max(float(grown.sum()), 1.0))
    sure = overlap(grown, rough) * alike(small, mine, there, grown)
    return enlarged(grown, target), float(sure)
