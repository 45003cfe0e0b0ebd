"""Depth carried from where photos agree to where their windows say nothing, within what looks like one surface.

Each pixel without a depth takes over the plane of the pixel that it is nearest to along a path that avoids edges: a step costs its
length and what grey changes along it, above noise. Planes are then led over into each other evenly. Whether the surface really is
there is for the other photos to say: a plane that was carried too far is not carried to the same place by any other.

References
----------
Xu, Q., Tao, W. (2020). Planar prior assisted PatchMatch multi-view stereo. AAAI.
Romanoni, A., Matteucci, M. (2019). TAPA-MVS: textureless-aware PatchMatch multi-view stereo. ICCV.
Criminisi, A., Sharp, T., Rother, C., Perez, P. (2010). Geodesic image and video editing. ACM TOG 29(5) (distances by raster scans).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from vast_quarry.core.dense.completing import on_four_sides
from vast_quarry.core.dense.planes import inverse_of, plane_filled

Floats = NDArray[np.float32]

#: grey levels that are noise, and how many pixels of a path one level above them is worth
NOISE, EDGE = 2.5, 1.2
#: rounds of raster scans, and turns of leading over
ROUNDS, TURNS = 2, 40
#: nothing is carried over a path worth more pixels, as a share of the picture's longer side
FARTHEST = 0.16
#: inverse depths within this share of each other are of one surface
ONE_SURFACE = 0.01
#: what lies beside a pixel lies at about its depth within this share
BESIDE = 0.06


@njit(error_model="numpy", cache=True)
def _carried(plane, far, gray, rounds, noise, edge):
    """Planes (H, W, 3) and how far they were carried (H, W), in place: 0 where they are known, infinite elsewhere."""
    h, w = far.shape
    for _ in range(rounds):
        for way in (1, -1):
            for line in range(h):
                y = line if way > 0 else h - 1 - line
                for column in range(w):
                    x = column if way > 0 else w - 1 - column
                    if far[y, x] == 0:
                        continue
                    for k in range(4):
                        dy, dx = (0, -1, -1, -1)[k] * way, (-1, -1, 0, 1)[k] * way
                        j, i = y + dy, x + dx
                        if j < 0 or i < 0 or j >= h or i >= w or far[j, i] >= far[y, x]:
                            continue
                        rise = max(abs(np.float32(gray[y, x]) - np.float32(gray[j, i])) - noise, np.float32(0.0))
                        length = np.float32(1.0) if dx == 0 or dy == 0 else np.float32(1.4142)
                        there = far[j, i] + length + edge * rise
                        if there < far[y, x]:
                            far[y, x] = there
                            plane[y, x, 0] = plane[j, i, 0] - dx * plane[j, i, 1] - dy * plane[j, i, 2]
                            plane[y, x, 1] = plane[j, i, 1]
                            plane[y, x, 2] = plane[j, i, 2]


@njit(error_model="numpy", cache=True, fastmath=True)
def _evened(w, known, gray, turns, noise, edge, one):
    """Inverse depths (H, W) that are not ``known`` led over into their neighbours of the same surface, in place."""
    h, wide = w.shape
    for _ in range(turns):
        for color in (0, 1):
            for y in range(h):
                for x in range((y + color) % 2, wide, 2):
                    here = w[y, x]
                    if known[y, x] or here <= 0:
                        continue
                    total = weight = np.float32(0.0)
                    for k in range(4):
                        j, i = y + (0, 0, 1, -1)[k], x + (1, -1, 0, 0)[k]
                        if j < 0 or i < 0 or j >= h or i >= wide or abs(w[j, i] - here) > one * here:
                            continue
                        rise = max(abs(np.float32(gray[y, x]) - np.float32(gray[j, i])) - noise, np.float32(0.0))
                        g = np.float32(1.0) / (np.float32(1.0) + edge * rise)
                        total += g * w[j, i]
                        weight += g
                    if weight > 0:
                        w[y, x] = here + np.float32(1.5) * (total / weight - here)


def _enclosed(w: Floats, known: NDArray[np.bool_], found: Floats, reach: int) -> NDArray[np.bool_]:
    """Pixels (H, W) that something known of about the depth ``found`` for them lies beside on three sides at least.

    What is plain beyond the outline, as a sky, has the subject on one side only.
    """
    sides = np.zeros(w.shape, np.int8)
    for beside, away in on_four_sides(w, known):
        sides += (beside > 0) & (away <= reach) & (np.abs(beside - found) <= BESIDE * found)
    return np.asarray(sides >= 3)


def filled(
    depth: Floats,
    known: NDArray[np.bool_],
    active: NDArray[np.bool_],
    gray: NDArray[np.uint8],
    offered: NDArray[np.float64] | None = None,
) -> tuple[Floats, NDArray[np.bool_]]:
    """A depth map (H, W) completed within what looks like one surface; 0 where nothing is near enough. And which pixels (H, W) have a
    plane that was offered.

    Parameters
    ----------
    depth : (H, W)
        Along the optical axis, to be trusted where it is ``known`` (H, W).
    active : (H, W) bool
        Pixels that are wanted.
    gray : (H, W) uint8
        The photo.
    offered : (K, 3), optional
        Planes of inverse depth (a, b, c) that other photos found.
    """
    if not known.any():
        return np.zeros(depth.shape, np.float32), np.zeros(depth.shape, bool)
    even = cv2.medianBlur(gray, 5)  # keeps edges where they are
    w, flat, lent, _ = plane_filled(inverse_of(depth, known), known, active, gray, offered)
    known = known | flat
    # slopes from about the pixel, of what is known there and of one surface with it
    share = cv2.boxFilter(known.astype(np.float32), -1, (9, 9), normalize=False)
    mean = cv2.boxFilter(w, -1, (9, 9), normalize=False) / np.maximum(share, 1)
    v, u = np.meshgrid(np.arange(w.shape[0], dtype=np.float32), np.arange(w.shape[1], dtype=np.float32), indexing="ij")
    slopes = []
    for at in (u, v):
        middle = cv2.boxFilter(at * known, -1, (9, 9), normalize=False) / np.maximum(share, 1)
        spread = cv2.boxFilter(at * at * known, -1, (9, 9), normalize=False) / np.maximum(share, 1) - middle**2
        both = cv2.boxFilter(at * w, -1, (9, 9), normalize=False) / np.maximum(share, 1) - middle * mean
        slope = both / np.maximum(spread, 0.5)
        # a slope across a step is none
        slopes.append(np.where(np.abs(slope) < ONE_SURFACE * np.maximum(w, 1e-12), slope, 0))
    plane = np.stack([w, *slopes], -1).astype(np.float32)
    far = np.where(known, 0, np.inf).astype(np.float32)
    _carried(plane, far, even, ROUNDS, np.float32(NOISE), np.float32(EDGE))
    out = np.where((far <= FARTHEST * max(depth.shape)) & (active | known), plane[..., 0], 0).astype(np.float32)
    out[~(known | _enclosed(w, known, out, max(depth.shape) // 2))] = 0
    _evened(out, known, even, TURNS, np.float32(NOISE), np.float32(EDGE), np.float32(ONE_SURFACE))
    return np.where(out > 0, 1 / np.maximum(out, np.float32(1e-12)), 0).astype(np.float32), lent
