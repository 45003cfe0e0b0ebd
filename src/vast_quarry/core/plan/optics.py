"""Optics of a planned photo: ground sample distance, depth of field, hyperfocal distance.

Thin lens; with hyperfocal distance ``H = f^2 / (N c) + f`` and focus at ``s``::

    near = s (H - f) / (H + s - 2 f),   far = s (H - f) / (H - s)   (infinite for s >= H)

References
----------
Ray, S. (2002). Applied Photographic Optics, 3rd ed., ch. 22. The formulas are as remembered from there.
"""

from __future__ import annotations

import math


def ground_sample(distance: float, focal_px: float) -> float:
    """Metres on the subject per pixel, at a distance in metres and a focal length in pixels."""
    return distance / focal_px


def hyperfocal(focal_mm: float, f_number: float, circle_mm: float) -> float:
    """Hyperfocal distance in mm for a circle of confusion in mm."""
    return focal_mm**2 / (f_number * circle_mm) + focal_mm


def depth_of_field(focal_mm: float, f_number: float, focus_mm: float, circle_mm: float) -> tuple[float, float]:
    """Nearest and farthest sharp distance in mm (the latter may be infinite).

    Examples
    --------
    >>> near, far = depth_of_field(50.0, 8.0, 3000.0, 0.03)
    >>> round(near), round(far)
    (2338, 4185)
    """
    h = hyperfocal(focal_mm, f_number, circle_mm)
    near = focus_mm * (h - focal_mm) / (h + focus_mm - 2 * focal_mm)
    far = focus_mm * (h - focal_mm) / (h - focus_mm) if focus_mm < h else math.inf
    return near, far
