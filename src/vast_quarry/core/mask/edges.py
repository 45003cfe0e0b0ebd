"""From a rough mask to one that follows the edges of its photo.

A guided filter draws a mask's soft rim onto the edges of the picture in linear time; where colours on both sides of the rim
differ, a cut by their mixtures first moves the rim to where the colours change. Used by all ways that know only roughly
where the subject is.

References
----------
He, K., Sun, J., Tang, X. (2010). Guided image filtering. ECCV.
Rother, C., Kolmogorov, V., Blake, A. (2004). GrabCut: interactive foreground extraction using iterated graph cuts. SIGGRAPH.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.mask.files import mask_at
from vast_quarry.core.photo.reading import resized

Mask = NDArray[np.bool_]
#: pieces smaller than this share of the largest one are specks
SPECK = 0.02


def guided(guide: NDArray, values: NDArray, radius: int, smooth: float = 1e-3) -> NDArray[np.float32]:
    """Smooth ``values`` (H, W) within windows of ``radius`` pixels while keeping to the edges of ``guide``.

    Parameters
    ----------
    guide : (H, W, 3) uint8
        The picture; all its channels count.
    smooth : float
        Variance of the guide (full scale 1) below which it counts as even.
    """
    g = guide.astype(np.float32) / 255.0
    p = values.astype(np.float32)
    window = (2 * radius + 1, 2 * radius + 1)

    def mean(a: NDArray) -> NDArray:
        return np.asarray(cv2.boxFilter(a, cv2.CV_32F, window, borderType=cv2.BORDER_REFLECT))

    m, mp = mean(g), mean(p)
    covar = [mean(g[..., c] * p) - m[..., c] * mp for c in range(3)]
    v = {
        (a, b): mean(g[..., a] * g[..., b]) - m[..., a] * m[..., b] + (smooth if a == b else 0.0)
        for a in range(3)
        for b in range(a, 3)
    }
    # the 3 x 3 system of each window by Cramer's rule
    rr, rg, rb, gg, gb, bb = v[0, 0], v[0, 1], v[0, 2], v[1, 1], v[1, 2], v[2, 2]
    i_rr, i_rg, i_rb = gg * bb - gb * gb, gb * rb - rg * bb, rg * gb - gg * rb
    i_gg, i_gb, i_bb = rr * bb - rb * rb, rb * rg - rr * gb, rr * gg - rg * rg
    det = i_rr * rr + i_rg * rg + i_rb * rb
    a = np.stack(
        [
            (i_rr * covar[0] + i_rg * covar[1] + i_rb * covar[2]) / det,
            (i_rg * covar[0] + i_gg * covar[1] + i_gb * covar[2]) / det,
            (i_rb * covar[0] + i_gb * covar[1] + i_bb * covar[2]) / det,
        ],
        -1,
    )
    b = mp - (a * m).sum(-1)
    return np.asarray((mean(a) * g).sum(-1) + mean(b), np.float32)


def snapped(rgb: NDArray[np.uint8], mask: Mask, reach: float = 4.0, smooth: float = 1e-4) -> Mask:
    """A mask (H, W) with its rim moved to edges of the photo (H, W, 3) within about ``reach`` pixels."""
    if mask.all() or not mask.any():
        return mask
    r = max(1, round(reach))
    # only where the rim is: a mask is mostly inside or outside
    near = cv2.dilate(
        cv2.morphologyEx(mask.astype(np.uint8), cv2.MORPH_GRADIENT, np.ones((3, 3), np.uint8)),
        np.ones((4 * r + 1,) * 2, np.uint8),
    )
    ys, xs = np.flatnonzero(near.any(1)), np.flatnonzero(near.any(0))
    part = np.s_[ys[0] : ys[-1] + 1, xs[0] : xs[-1] + 1]
    soft = guided(rgb[part], mask[part].astype(np.float32), r, smooth)
    out = mask.copy()
    band = near[part] > 0
    out[part][band] = soft[band] > 0.5
    return out


def cut(rgb: NDArray[np.uint8], mask: Mask, band: int, rounds: int = 2) -> Mask:
    """A mask (H, W) cut anew by colour within ``band`` pixels of its rim."""
    if mask.all() or not mask.any():
        return mask
    m = mask.astype(np.uint8)
    inside = cv2.distanceTransform(np.pad(m, 1, mode="edge"), cv2.DIST_L2, 5)[1:-1, 1:-1]
    outside = cv2.distanceTransform(np.pad(1 - m, 1, mode="edge"), cv2.DIST_L2, 5)[1:-1, 1:-1]
    labels = np.where(mask, cv2.GC_PR_FGD, cv2.GC_PR_BGD).astype(np.uint8)
    labels[inside > band] = cv2.GC_FGD
    labels[outside > band] = cv2.GC_BGD
    return grab(rgb, labels, rounds)


def grab(rgb: NDArray[np.uint8], labels: NDArray[np.uint8], rounds: int = 3) -> Mask:
    """GrabCut from labels (H, W) of OpenCV's four kinds; the same labels give the same mask."""
    if not (labels & 1).any() or (labels & 1).all():
        return np.asarray((labels & 1) > 0)
    cv2.setRNGSeed(1)
    out = labels.copy()
    try:
        cv2.grabCut(
            np.ascontiguousarray(rgb[..., ::-1]), out, None, np.zeros((1, 65)), np.zeros((1, 65)), rounds,
            cv2.GC_INIT_WITH_MASK,
        )  # fmt: skip
    except cv2.error:  # too few pixels of one kind for a mixture of colours
        return np.asarray((labels & 1) > 0)
    return np.asarray((out & 1) > 0)


def largest_parts(mask: Mask, share: float = SPECK) -> Mask:
    """A mask without pieces smaller than a share of its largest one."""
    count, label, stats, _ = cv2.connectedComponentsWithStats(mask.astype(np.uint8), connectivity=8)
    if count <= 1:
        return mask
    area = stats[1:, cv2.CC_STAT_AREA]
    large = np.concatenate([[False], area >= share * area.max()])
    return np.asarray(large[label])


def without_pinholes(mask: Mask, most: float) -> Mask:
    """A mask whose holes of up to ``most`` pixels are filled; larger ones are holes of the subject and stay."""
    count, label, stats, _ = cv2.connectedComponentsWithStats((~mask).astype(np.uint8), connectivity=4)
    small = np.concatenate([[False], stats[1:, cv2.CC_STAT_AREA] <= most]) if count > 1 else np.zeros(1, bool)
    return np.asarray(mask | small[label])


def smaller(rgb: NDArray[np.uint8], side: int) -> NDArray[np.uint8]:
    """A photo with its longer side no longer than ``side`` pixels."""
    return np.asarray(resized(rgb, min(1.0, side / max(rgb.shape[:2]))), np.uint8)


def enlarged(mask: Mask, rgb: NDArray[np.uint8], reach: float | None = None) -> Mask:
    """A mask found in a smaller photo, at the photo's own size and with its rim on the photo's edges."""
    h, w = rgb.shape[:2]
    step = max(w / mask.shape[1], 1.0)
    return snapped(rgb, mask_at(mask, w, h), 2.0 * step if reach is None else reach)
