"""A backdrop's colour, far from the subject's own, and how far behind the subject it belongs.

References
----------
CIE 1976 L*a*b* under D65 (CIE 15:2004); sRGB after IEC 61966-2-1. Common practice, no source: what a backdrop sends
onto the subject stays unseen under about two hundredths of the light.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say

#: cloths and papers that can be had, by name and sRGB
CLOTHS: dict[str, tuple[int, int, int]] = {
    "green": (40, 150, 70), "blue": (40, 80, 170), "magenta": (170, 50, 120), "yellow": (225, 200, 60),
    "orange": (215, 110, 40), "turquoise": (50, 160, 165), "black": (25, 25, 25), "white": (240, 240, 240),
}  # fmt: skip
#: share of the light that may come from the backdrop
SPILL = 0.02
#: light that a cloth gives back
GIVES_BACK = 0.5


@dataclass(frozen=True)
class Backdrop:
    """A proposed colour with its CIE L*a*b* distance to the nearest of the subject's colours, and how far behind (m)."""

    name: str
    hex: str
    difference: float
    distance_m: float


def lab(rgb: NDArray) -> NDArray[np.float64]:
    """CIE L*a*b* (N, 3) of sRGB colours (N, 3) in 0..255."""
    from skimage.color import rgb2lab  # slow to load: only for those who ask for a colour

    return np.asarray(rgb2lab(np.asarray(rgb, float) / 255))


def parse_color(text: str) -> tuple[int, int, int]:
    """``#b4552f`` as red, green, blue.

    Raises
    ------
    PlainError
        When it is no colour.
    """
    digits = text.lstrip("#")
    try:
        if len(digits) != 6:
            raise ValueError
        return int(digits[:2], 16), int(digits[2:4], 16), int(digits[4:], 16)
    except ValueError:
        raise PlainError(say("{text} is no colour.", text=text), "Write it like #b4552f.") from None


def propose_backdrop(colors: list[str], width_m: float, height_m: float) -> Backdrop:
    """The cloth whose colour differs most from the subject's colours, and how far behind a subject of a size it belongs.

    A cloth of area ``A`` that fills the frame lights the subject's back by ``A r / (pi d^2)`` of its own light (far
    field); the distance keeps that under two hundredths.
    """
    own = lab(np.array([parse_color(c) for c in colors] or [(128, 128, 128)]))
    names = list(CLOTHS)
    apart = np.linalg.norm(lab(np.array(list(CLOTHS.values())))[:, None] - own[None], axis=2).min(1)
    k = int(np.argmax(apart))
    area = 1.5 * width_m * 1.5 * height_m
    # a cloth in its place is as brightly lit as a third of the subject, for the lamps look elsewhere
    distance = math.sqrt(area * GIVES_BACK / 3 / (math.pi * SPILL))
    r, g, b = CLOTHS[names[k]]
    return Backdrop(names[k], f"#{r:02x}{g:02x}{b:02x}", float(apart[k]), round(max(distance, 0.5 * width_m), 2))
