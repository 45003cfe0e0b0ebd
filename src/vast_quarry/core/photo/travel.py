"""How far the camera travelled about the subject, frame by frame, and frames that are evenly apart by that.

Where the camera goes round the subject, relative poses along the video say the angle gained (:mod:`.turning`). Before a still
backdrop they cannot: there the picture moves from frame to frame by some share ``m`` of the width of what moves in it, and a
round subject that turns by a small angle ``w`` shows its front moving by half its width times ``w``, so the angle is about
``2 m``. Where laps are found, the whole turn says it exactly. Shake is no travel: places are averaged over a window in which it goes to and fro, and what is left of it tells the
stretches that are shaken, of which no frame is taken, nor of those where nothing moves, nor any that is blurred.

References
----------
Matsushita, Y., Ofek, E., Ge, W., Tang, X., Shum, H. (2006). Full-frame video stabilization with motion inpainting. IEEE
TPAMI 28(7) (smoothed paths).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.photo.frames import STILL, Scan, laps

Array = NDArray[np.float64]

#: seconds on either side over which shake is averaged away, and over which it is felt
CALM, JOLT = 0.3, 0.1
#: a frame softer than this share of those within a moment (s) is blurred; and one softer than this of those within a while
MOMENT, SOFT = 0.6, 0.75
ABOUT, LOST = 3.0, 0.45
#: shake beyond this share of the width, or so many times the usual trembling of the film, spoils a stretch
SHAKEN, TIMES = 0.008, 3.5
#: what is not known by a whole turn is taken for more than it seems, so that steps become rather too small than too large
UNSURE = 1.15
#: the least step, as a share of the wanted one, and the least where the next would be too long
LEAST, SHORTEST = 0.6, 0.35


def _windows(time: Array, half: float) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """First and past-the-last row within ``half`` seconds of each row."""
    return np.searchsorted(time, time - half - 1e-9), np.searchsorted(time, time + half + 1e-9)


def _averaged(values: Array, first: NDArray[np.int64], last: NDArray[np.int64]) -> Array:
    total = np.concatenate([np.zeros((1, values.shape[1])), np.cumsum(values, axis=0)])
    return np.asarray((total[last] - total[first]) / (last - first)[:, None])


def smoothed_path(s: Scan) -> Array:
    """Where the picture has moved to (n, 2) with shake averaged away."""
    step = np.where((np.linalg.norm(s.move, axis=1) > STILL)[:, None], s.move, 0.0)
    place = np.cumsum(step, axis=0)
    first, last = _windows(s.time, CALM)
    # the same number on either side, so that an even movement is left where it is
    row = np.arange(len(place))
    reach = np.minimum(row - first, last - 1 - row)
    return _averaged(place, row - reach, row + reach + 1)


def shake_of(s: Scan) -> Array:
    """How strongly the picture jolts about its even movement at each row (n,), as a share of its width a frame."""
    step = s.move / s.gap[:, None]
    # how the first row came there is not known
    step[:1] = step[1:2] if len(step) > 1 else 0.0
    first, last = _windows(s.time, CALM)
    even = np.stack([np.median(step[a:b], axis=0) for a, b in zip(first, last)])
    off = ((step - even) ** 2).sum(1, keepdims=True)
    return np.sqrt(_averaged(off, *_windows(s.time, JOLT)))[:, 0]


def angles(s: Scan) -> Array:
    """Degrees gained about the subject up to each row (n,)."""
    if not len(s.number):
        return np.zeros(0)
    calm = smoothed_path(s)
    step = np.linalg.norm(np.diff(calm, axis=0, prepend=calm[:1]), axis=1)
    step = np.degrees(2.0 * np.where(step > STILL * np.maximum(s.gap, 1) * 0.5, step, 0.0))
    # a backdrop that stands still in a good part of the film does so in the rest, whatever was made of it there
    if s.turned is not None and np.isnan(s.turned).mean() < 0.25:
        step = np.where(np.isfinite(s.turned), s.turned, step)
    gained = np.cumsum(step)
    turns = [gained[b] - gained[a] for a, b in laps(s)]
    if not turns:
        return np.asarray(gained * UNSURE)
    factor = 360.0 / max(float(np.median(turns)), 1e-6)
    return np.asarray(gained * (factor if 0.4 < factor < 2.5 else UNSURE))


def usual_sharpness(s: Scan, half: float, percent: float) -> Array:
    """Sharpness of the frames within ``half`` seconds of each row (n,)."""
    first, last = _windows(s.time, half)
    return np.array([np.percentile(s.sharp[a:b], percent) for a, b in zip(first, last)])


def fit_to_take(s: Scan) -> NDArray[np.bool_]:
    """Rows that are neither blurred, against those about them, nor out of a shaken stretch (n,)."""
    if not len(s.number):
        return np.zeros(0, bool)
    # how much fine detail there is changes with what is in the picture, but not from one moment to the next
    clear = (s.sharp >= SOFT * usual_sharpness(s, MOMENT, 60)) & (s.sharp >= LOST * usual_sharpness(s, ABOUT, 70))
    shake = shake_of(s)
    return np.asarray(clear & (shake <= max(SHAKEN, TIMES * float(np.median(shake)))))


def by_motion(s: Scan, degrees: float = 10.0) -> list[int]:
    """Frames at most ``degrees`` apart about the subject, the sharper ones; none where nothing moves or all is shaken."""
    gained, fit = angles(s), fit_to_take(s)
    worth = s.sharp / np.maximum(usual_sharpness(s, MOMENT, 60), 1e-9)
    able = np.flatnonzero(fit)
    if not len(able):
        return []
    begin = able[gained[able] <= gained[able[0]] + 0.3 * degrees]
    out = [int(begin[np.argmax(worth[begin])])]
    while True:
        ahead = able[(able > out[-1]) & (gained[able] > gained[out[-1]] + SHORTEST * degrees)]
        if not len(ahead):
            return [int(s.number[r]) for r in out]
        far = (gained[ahead] - gained[out[-1]]) / degrees
        near = (far > LEAST) & (far <= 1.0)
        if near.any():  # as sharp as can be had within a step
            out.append(int(ahead[near][np.argmax(worth[ahead[near]] + 0.5 * far[near])]))
        elif (far <= LEAST).any() and (far > 1.0).any():  # rather a short step than one that is too long
            out.append(int(ahead[far <= LEAST][-1]))
        elif (far > 1.0).any():  # all of a step is spoilt: the next that is not
            out.append(int(ahead[0]))
        else:
            return [int(s.number[r]) for r in out]
