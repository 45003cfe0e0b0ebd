"""Plain flat sides: a plane from what is known about their rims, where windows say nothing inside.

The inverse depth of a plane is an affine function of the pixel. What bounds a plain flat side is partly on it (the rim of the lid, the
foot on the ground) and partly far behind: one plane through as many of the known pixels about a segment as possible, on opposite sides
of it, is taken for the segment. Whether it is there is for the other photos to say, which fit planes to their own segments.

References
----------
Fischler, M. A., Bolles, R. C. (1981). Random sample consensus. Communications of the ACM 24(6).
Romanoni, A., Matteucci, M. (2019). TAPA-MVS: textureless-aware PatchMatch multi-view stereo. ICCV (planes of segments).
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

Floats = NDArray[np.float32]

#: grey levels from a pixel to the next that end a segment; smallest segment, of the picture's pixels
STEP, LEAST = 2.5, 0.0004
#: known pixels so far about a segment count (pixels); so many of them at most; planes that are tried
RING, MOST, TRIES = 7, 500, 300
#: inverse depths within this share of a plane are on it
ON_PLANE = 0.0025
#: directions about the middle of a segment, in how many of them something known has to be on the plane, and on how many lines
#: through the middle on both sides
SECTORS, LEAST_SECTORS, FACING = 16, 6, 2
#: share of the known pixels that a plane has to have; of those that do nearly as well as the best (in directions) the nearest is taken:
#: what stands before a ground, which bounds it too, hides that
SHARE, AS_WELL = 0.1, 0.7
#: a plane passes a segment no nearer and no farther than its known pixels are, give or take this share
BEYOND = 0.03


def segments(unknown: NDArray[np.bool_], gray: NDArray[np.uint8]) -> tuple[NDArray[np.int32], list[tuple[slice, ...]]]:
    """Pieces of evenly coloured pixels that are ``unknown`` (H, W): their labels from 1 on, and where each is."""
    even = cv2.medianBlur(gray, 5).astype(np.float32)
    slope = np.maximum(np.abs(cv2.Sobel(even, -1, 1, 0, scale=0.125)), np.abs(cv2.Sobel(even, -1, 0, 1, scale=0.125)))
    label, _ = ndimage.label(unknown & (slope < STEP))
    size = np.bincount(label.ravel())
    small = size < LEAST * label.size
    small[0] = True
    new = np.cumsum(~small) * ~small
    label = new[label].astype(np.int32)
    return label, ndimage.find_objects(label)


def fitted(
    inverse: Floats, u: Floats, v: Floats, middle: tuple[float, float], seed: int = 0
) -> NDArray[np.float64] | None:
    """The plane (a, b, c), inverse depth = a u + b v + c, that most of the known pixels about a segment are on; None without one.

    Parameters
    ----------
    inverse, u, v : (N,)
        Inverse depths of known pixels, and where they are.
    middle : (u, v)
        Of the segment.
    """
    if len(inverse) < 12:
        return None
    rng = np.random.default_rng(seed)
    if len(inverse) > MOST:
        some = rng.choice(len(inverse), MOST, replace=False)
        inverse, u, v = inverse[some], u[some], v[some]
    angle = np.arctan2(v - middle[1], u - middle[0])
    sector = np.floor((angle + np.pi) / (2 * np.pi) * SECTORS).astype(int) % SECTORS
    a = np.stack([u - middle[0], v - middle[1], np.ones_like(u)], 1).astype(np.float64)
    w = inverse.astype(np.float64)
    pick = rng.integers(0, len(w), (TRIES, 3))
    systems = a[pick]
    good = np.abs(np.linalg.det(systems)) > 20.0  # three that are no line
    if not good.any():
        return None
    planes = np.linalg.solve(systems[good], w[pick[good]][..., None])[..., 0]
    on = np.abs(planes @ a.T - w) < ON_PLANE * w
    seen = np.stack([(on & (sector == k)).sum(1) for k in range(SECTORS)], 1) >= 2
    facing = (seen & np.roll(seen, SECTORS // 2, axis=1)).sum(1) // 2
    good = (seen.sum(1) >= LEAST_SECTORS) & (facing >= FACING) & (on.mean(1) > SHARE)
    score = np.where(good, seen.sum(1) + facing, 0)
    if not good.any():
        return None
    # inverse depth at the middle of the segment
    nearest = np.where(score >= AS_WELL * score.max(), planes[:, 2], -np.inf)
    # of many through the same pixels the one that most are on
    best = int(np.argmax(np.where(nearest > nearest.max() * (1 - 4 * ON_PLANE), on.sum(1), 0)))
    mine = on[best]
    for _ in range(2):
        plane, *_ = np.linalg.lstsq(a[mine], w[mine], rcond=None)
        mine = np.abs(a @ plane - w) < ON_PLANE * w
        if mine.sum() < 8:
            return None
    return np.array([plane[0], plane[1], plane[2] - plane[0] * middle[0] - plane[1] * middle[1]])


def plane_filled(
    inverse: Floats, known: NDArray[np.bool_], active: NDArray[np.bool_], gray: NDArray[np.uint8]
) -> tuple[Floats, NDArray[np.bool_]]:
    """Inverse depths (H, W) with plain flat segments that are ``active`` filled by planes, and which pixels (H, W) those are."""
    label, where = segments(active & ~known, gray)
    out, filled = inverse.copy(), np.zeros(known.shape, bool)
    high, wide = known.shape
    for k, (rows, columns) in enumerate(where, 1):
        r = slice(max(0, rows.start - RING), min(high, rows.stop + RING))
        c = slice(max(0, columns.start - RING), min(wide, columns.stop + RING))
        mine = (label[r, c] == k).astype(np.uint8)
        about = (cv2.dilate(mine, np.ones((2 * RING + 1,) * 2, np.uint8)) > 0) & known[r, c]
        y, x = np.nonzero(about)
        inside_y, inside_x = np.nonzero(mine)
        middle = (float(inside_x.mean()) + c.start, float(inside_y.mean()) + r.start)
        w = inverse[r, c][about]
        u, v = (x + c.start).astype(np.float32), (y + r.start).astype(np.float32)
        plane = fitted(w, u, v, middle)
        if plane is None:
            continue
        at = plane[0] * (inside_x + c.start) + plane[1] * (inside_y + r.start) + plane[2]
        if at.min() < w.min() * (1 - BEYOND) or at.max() > w.max() * (1 + BEYOND):
            continue
        out[r, c][mine > 0] = at
        filled[r, c] |= mine > 0
    return out, filled
