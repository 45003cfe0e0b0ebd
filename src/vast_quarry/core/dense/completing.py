"""What a depth map would say where it says nothing: taken over from what lies about, from the farther side.

What a photo shows and no other does is hidden from them by something nearer, so it belongs to what lies behind (Hirschmueller, H.
(2008). Stereo processing by semiglobal matching and mutual information. IEEE TPAMI 30(2), section 2.6). Nothing of this goes into a
cloud: it is a guess, and told as one.
"""

from __future__ import annotations

from collections.abc import Iterator

import cv2
import numpy as np
from numpy.typing import NDArray

#: depths that differ by less than this share hang together; pieces of fewer pixels are taken for chance
ALIKE, PIECE = 0.02, 100
#: steps that a whole number of 16 bits has for a factor of e in depth
STEPS = 1600.0


def trusted(depth: NDArray[np.float32], on: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Of the pixels (H, W) that are ``on``, those in pieces that are more than chance."""
    known = on & (depth > 0)
    if not known.any():
        return known
    middle = float(np.median(depth[known]))
    level = np.where(known, STEPS * np.log(np.where(known, depth, middle) / middle), -32000)
    steps = np.clip(level, -32000, 32000).astype(np.int16)
    cv2.filterSpeckles(steps, -32000, PIECE, STEPS * ALIKE)
    return np.asarray(steps != -32000)


def on_four_sides(
    values: NDArray[np.float32], known: NDArray[np.bool_]
) -> Iterator[tuple[NDArray[np.float32], NDArray[np.intp]]]:
    """For above, below, left and right in turn: of each pixel (H, W) the value of the nearest ``known`` one on that side, itself if it
    is one, 0 where there is none; and how many pixels away it is."""
    for axis, size in enumerate(known.shape):
        place = np.arange(size).reshape((-1, 1) if axis == 0 else (1, -1))
        for way in (1, -1):
            seen, ways = (known, values) if way == 1 else (np.flip(known, axis), np.flip(values, axis))
            # the last known place on the way here
            last = np.maximum.accumulate(np.where(seen, place, -1), axis)
            beside = np.where(last >= 0, np.take_along_axis(ways, np.maximum(last, 0), axis), 0)
            away = place - last
            yield (beside, away) if way == 1 else (np.flip(beside, axis), np.flip(away, axis))


def completed(depth: NDArray[np.float32], on: NDArray[np.bool_]) -> tuple[NDArray[np.float32], NDArray[np.uint8]]:
    """A depth (H, W) for every pixel: of those that are ``on`` and no chance their own, of others the farthest of the nearest of
    these above, below, to the left and to the right; 0 where there is none. And on how many of the four sides (H, W) there is one.
    """
    known = trusted(depth, on)
    farthest, sides = np.zeros(depth.shape, np.float32), np.zeros(depth.shape, np.uint8)
    for beside, _ in on_four_sides(depth, known):
        farthest = np.maximum(farthest, beside)
        sides += beside > 0
    evened = cv2.medianBlur(np.where(known, depth, farthest).astype(np.float32), 5)
    return np.where(known, depth, evened), sides
