"""Defects planted in single photos of a shoot, with known amounts: what judging photos is tested against.

Motion and focus blur act on the light before it meets the sensor, as in a camera: noise is not blurred with it.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.rig.render import Shot

#: what can be planted, and the unit of its amount
KINDS = {
    "motion": "pixels moved", "focus": "pixels across the disc of confusion", "ev": "stops", "warm": "stops of red over blue",
}  # fmt: skip


@dataclass(frozen=True)
class Planted:
    """A defect of the photo with a number (from 1); ``angle`` is the direction of motion in degrees."""

    photo: int
    kind: str
    amount: float
    angle: float = 0.0


def parse_planted(text: str) -> tuple[Planted, ...]:
    """``3:motion:8,7:focus:6,9:ev:-1.5`` as defects; a fourth part is the direction of motion.

    Raises
    ------
    ValueError
        When it is not written like that.
    """
    out = []
    for part in (p.strip() for p in text.split(",") if p.strip()):
        pieces = part.split(":")
        try:
            photo, kind, amount = int(pieces[0]), pieces[1], float(pieces[2])
            angle = float(pieces[3]) if len(pieces) > 3 else 0.0
        except (ValueError, IndexError):
            raise ValueError(f"a planted defect is written like 3:motion:8, not {part!r}") from None
        if kind not in KINDS or photo < 1:
            raise ValueError(f"no defect called {kind!r}; there are: {', '.join(KINDS)}")
        out.append(Planted(photo, kind, amount, angle))
    return tuple(out)


def motion_kernel(length: float, angle_deg: float) -> NDArray[np.float32]:
    """A straight path of a length in pixels, as weights that sum to one."""
    n = int(np.ceil(length / 2)) + 1
    out = np.zeros((2 * n + 1, 2 * n + 1), np.float32)
    a = np.radians(angle_deg)
    for t in np.linspace(-length / 2, length / 2, max(2, int(8 * length))):
        x, y = n + t * np.cos(a), n + t * np.sin(a)
        i, j = int(x), int(y)
        u, v = x - i, y - j
        for di, wi in ((0, 1 - u), (1, u)):
            for dj, wj in ((0, 1 - v), (1, v)):
                if i + di <= 2 * n and j + dj <= 2 * n:
                    out[j + dj, i + di] += wi * wj
    return out / out.sum()


def disc_kernel(diameter: float) -> NDArray[np.float32]:
    """A disc of a diameter in pixels, as weights that sum to one."""
    r = int(np.ceil(diameter / 2)) + 1
    y, x = np.mgrid[-r : r + 1, -r : r + 1]
    out = np.clip(diameter / 2 + 0.5 - np.hypot(x, y), 0, 1).astype(np.float32)
    return out / out.sum()


def plant(linear: NDArray[np.float32], shot: Shot, defects: list[Planted]) -> NDArray[np.float32]:
    """Light on the sensor (H, W, 3) with defects; exposure and balance are changed in ``shot``."""
    for d in defects:
        if d.kind == "motion":
            linear = np.asarray(cv2.filter2D(linear, -1, motion_kernel(d.amount, d.angle)), np.float32)
        elif d.kind == "focus":
            linear = np.asarray(cv2.filter2D(linear, -1, disc_kernel(d.amount)), np.float32)
        elif d.kind == "ev":
            shot.exposure *= 2.0**d.amount
        else:
            r, g, b = shot.balance
            shot.balance = (r * 2.0 ** (d.amount / 2), g, b * 2.0 ** (-d.amount / 2))
    return linear
