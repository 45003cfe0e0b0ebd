"""From a rough outline, or two scribbles, to a mask: the subject's colours are learnt inside, the backdrop's outside.

The cut is made at the size of a screen, so that it answers while somebody looks, and its rim is set at the photo's own size.

References
----------
Rother, C., Kolmogorov, V., Blake, A. (2004). GrabCut: interactive foreground extraction using iterated graph cuts. SIGGRAPH.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import ArrayLike, NDArray

from vast_quarry.core.mask.edges import enlarged, grab, largest_parts, smaller, without_pinholes

Mask = NDArray[np.bool_]
Rgb = NDArray[np.uint8]
#: longer side at which the cut is made (pixels)
SIDE = 400


def filled(points: ArrayLike, height: int, width: int) -> Mask:
    """What a closed outline holds; points (K, 2) as shares of width and height."""
    out = np.zeros((height, width), np.uint8)
    xy = np.asarray(points, np.float64).reshape(-1, 2) * [width, height] - 0.5
    if len(xy) >= 3:
        # with four bits of fraction, as fillPoly takes them
        cv2.fillPoly(out, [np.round(xy.clip(-1e6, 1e6) * 16).astype(np.int32)], 1, shift=4)
    return out > 0


def stroke(points: ArrayLike, radius: float, height: int, width: int) -> NDArray[np.float32]:
    """How far a round brush that is drawn along points (K, 2) covers each pixel: 1 within ``radius`` (share of the width)."""
    out = np.zeros((height, width), np.uint8)
    xy = np.round((np.asarray(points, np.float64).reshape(-1, 2) * [width, height] - 0.5).clip(-1e6, 1e6) * 16).astype(
        np.int32
    )
    thick = max(1, round(2 * radius * width))
    if len(xy) == 1:
        cv2.circle(out, (int(xy[0, 0]), int(xy[0, 1])), max(1, round(radius * width * 16)), 1, -1, shift=4)
    else:
        cv2.polylines(out, [xy], False, 1, thick, shift=4)
    return out.astype(np.float32)


def grown(
    rgb: Rgb,
    rough: Mask | None,
    wanted: Sequence[ArrayLike] = (),
    unwanted: Sequence[ArrayLike] = (),
    band: float = 0.06,
    side: int = SIDE,
) -> Mask:
    """Mask (H, W) of a photo (H, W, 3) grown from a rough one.

    Parameters
    ----------
    rough : (h, w) bool or None
        Where the subject is, roughly, at any size; the rim may lie ``band`` of the longer side off. Without it the
        scribbles alone tell.
    wanted, unwanted : sequences of (K, 2)
        Scribbles over the subject and over what is not wanted, as shares of width and height.
    """
    small = smaller(rgb, side)
    h, w = small.shape[:2]
    labels = np.full((h, w), cv2.GC_PR_BGD, np.uint8)
    if rough is not None:
        inside = cv2.resize(rough.astype(np.uint8), (w, h), interpolation=cv2.INTER_AREA) > 0
        reach = max(2, round(band * max(h, w)))
        far = np.asarray(cv2.distanceTransform((~inside).astype(np.uint8), cv2.DIST_L2, 5))
        deep = np.asarray(cv2.distanceTransform(np.pad(inside.astype(np.uint8), 1), cv2.DIST_L2, 5)[1:-1, 1:-1])
        labels[inside] = cv2.GC_PR_FGD
        labels[far > reach] = cv2.GC_BGD
        # the heart of the outline is the subject, whatever its colour, if the outline is not slim
        labels[deep > max(reach, 0.75 * float(deep.max()))] = cv2.GC_FGD
    else:
        # without an outline the frame's border is not the subject, unless it was scribbled on
        labels[0], labels[-1], labels[:, 0], labels[:, -1] = (cv2.GC_BGD,) * 4
    for lines, kind in ((unwanted, cv2.GC_BGD), (wanted, cv2.GC_FGD)):
        for points in lines:
            labels[stroke(points, 0.006, h, w) > 0] = kind
    mask = grab(small, labels, 3)
    kept = labels == cv2.GC_FGD
    mask = largest_parts(mask | kept, 0.05)
    return enlarged(without_pinholes(mask, 0.002 * max(float(mask.sum()), 1.0)), rgb)
