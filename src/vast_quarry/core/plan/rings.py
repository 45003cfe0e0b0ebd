"""Rings of stations about a subject, from its size, the camera and the wanted overlap.

Common practice, no source: neighbouring photos share 60 % or more; a step of 30 degrees is the least;
20 to 40 photos a lap are comfortable; one of several laps stands about 45 degrees above the middle one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.pose import look_at

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Station:
    """A place to take a photo from: rotation world to camera (3, 3), centre (3,), which ring it belongs to, what for."""

    rotation: Array
    center: Array
    ring: int
    role: str = "lap"


def fitting_distance(extent: ArrayLike, camera: Camera, fill: float = 0.8) -> float:
    """Distance in metres at which a subject of the given extent (x, y, z) fills ``fill`` of the frame's tighter side.

    Measured to the middle of the subject; half of its depth is added so that the near side fits too.
    """
    x, y, z = np.asarray(extent, dtype=float)
    across = float(np.hypot(x, y))
    by_width = across * camera.fx / (fill * camera.width)
    by_height = z * camera.fy / (fill * camera.height)
    return max(by_width, by_height) + across / 2.0


def photos_per_ring(radius: float, distance: float, camera: Camera, overlap: float = 0.75) -> int:
    """Photos a lap needs so that neighbours share ``overlap`` of what they see of a round subject.

    A step of angle ``a`` moves the seen surface of a subject of the given radius by ``radius * a``, out of a visible
    width that is the smaller of the frame's footprint and the front of the subject (about ``1.4 * radius`` of arc).
    Never fewer than 12 (30 degrees; common practice, no source).
    """
    if not 0 < overlap < 1:
        raise ValueError("overlap lies between 0 and 1")
    footprint = max(distance - radius, 1e-6) * camera.width / camera.fx
    seen = min(footprint, 1.4 * radius)
    step = (1 - overlap) * seen / radius
    return max(12, int(np.ceil(2 * np.pi / step)))


def ring_elevations(count: int, lowest: float = 10.0, highest: float = 55.0) -> list[float]:
    """Elevations in degrees of ``count`` rings above the horizon, evenly spread."""
    if count == 1:
        return [25.0]
    if count == 2:
        return [15.0, 40.0]
    return [float(e) for e in np.linspace(lowest, highest, count)]


def rings(
    target: ArrayLike,
    distance: float,
    elevations: list[float],
    per_ring: int,
    jitter: float = 0.0,
    seed: int = 0,
) -> list[Station]:
    """Stations on rings that look at ``target``.

    Every second ring is turned by half a step, so that stations do not stand above each other. ``jitter`` (share of
    the distance) moves stations as a hand would, and rolls them by up to a few degrees.
    """
    rng = np.random.default_rng(seed)
    middle = np.asarray(target, dtype=float)
    out = []
    for r, elevation in enumerate(elevations):
        for i in range(per_ring):
            a = 2 * np.pi * (i + 0.5 * (r % 2)) / per_ring
            e = np.radians(elevation)
            direction = np.array([np.cos(a) * np.cos(e), np.sin(a) * np.cos(e), np.sin(e)])
            center = middle + distance * direction
            aim, roll = middle, 0.0
            if jitter:
                center = center + distance * jitter * rng.normal(0, 1, 3)
                aim = middle + distance * jitter * 0.6 * rng.normal(0, 1, 3)
                roll = float(rng.normal(0, jitter * 60))
            out.append(Station(look_at(center, aim, roll_deg=roll), center, r))
    return out


def parse_ring_plan(text: str) -> tuple[int, int]:
    """``ring:3x12`` means three rings of twelve photos."""
    kind, _, numbers = text.partition(":")
    parts = numbers.lower().split("x")
    if kind != "ring" or len(parts) != 2 or not all(p.isdigit() and int(p) > 0 for p in parts):
        raise ValueError(f"a plan is written like ring:3x12 (rings x photos in each), not {text!r}")
    return int(parts[0]), int(parts[1])
