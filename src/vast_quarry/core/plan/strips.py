"""Strips: along a wall, over a strip of ground, along the walls of a corner or of a room.

Common practice, no source: inside, stand with the back to one wall and look across at the other, walk on between
photos (turning on the spot gives no depth), and go round the corners in small steps.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.plan.coverage import Watcher
from vast_quarry.core.plan.request import Request
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.pose import look_at

Array = NDArray[np.float64]

#: how far from a wall a camera is that has its back to it (m)
BACK = 0.4


@dataclass(frozen=True)
class Strips:
    """Stations in strips, the longest strip's photos, heights, distance, and overlap along and across."""

    stations: list[Station]
    per_strip: int
    heights: list[float]
    distance: float
    along: float
    across: float


def _frame(p: Request, distance: float) -> tuple[float, float]:
    return distance * p.pixels_wide / p.camera.fx, distance * p.pixels_high / p.camera.fx


def _spread(size: float, frame: float, shared: float, least: int = 1) -> Array:
    """Places along a size, from its middle, so that frames share what is wanted; one step beyond each end."""
    step = (1 - shared) * frame
    half = max(size / 2 - frame / 2, 0.0) + step
    return np.linspace(-half, half, max(least, math.ceil(2 * half / step - 1e-9) + 1))


def _levels(p: Request, frame: float) -> list[float]:
    """Heights of strips, so that frames cover the height."""
    n = p.rings or max(1, math.ceil((p.height - frame) / ((1 - p.across) * frame)) + 1)
    rest = max(p.height - frame, 0.0)
    z = [p.height / 2] if n == 1 else list(np.linspace(p.height / 2 - rest / 2, p.height / 2 + rest / 2, n))
    return [float(np.clip(h, p.lowest_m, p.highest_m)) for h in z]


def _by_detail(p: Request, most: float = math.inf) -> float:
    """Distance that gives the wanted detail, as near to it as the reach allows."""
    wanted = float(np.clip(min(p.detail_mm / 2000 * p.camera.fx, most), p.least_m, p.greatest_m))
    return max(wanted, 2.0 * p.focal_mm / 1000)


def _shared(step: float, frame: float) -> float:
    return float(np.clip(1 - step / frame, 0, 1))


def wall(p: Request, watcher: Watcher) -> Strips:
    """Strips along a wall seen from -y."""
    distance = _by_detail(p)
    frame = _frame(p, distance)
    x, z = _spread(p.width, frame[0], p.overlap), _levels(p, frame[1])
    m = len(z)
    out = []
    for k, h in enumerate(z):
        for a in x[:: 1 if k % 2 == 0 else -1]:
            center = np.array([a, -p.depth / 2 - distance, h])
            # a camera that cannot be held high enough is tilted
            low, high = frame[1] / 2, max(p.height - frame[1] / 2, frame[1] / 2)
            aim = h if m == 1 or abs(h - p.height / 2) < 1e-9 else float(np.clip(h, low, high))
            if not p.blocked(list(center)):
                out.append(Station(look_at(center, [a, -p.depth / 2, aim]), center, k))
    along = _shared(x[1] - x[0], frame[0]) if len(x) > 1 else 1.0
    across = _shared(z[1] - z[0], frame[1]) if m > 1 else 1.0
    return Strips(out, len(x), z, distance, along, across)


def ground(p: Request, watcher: Watcher) -> Strips:
    """Strips over a piece of ground: straight down, and one slanted strip along each long side."""
    distance = float(np.clip(_by_detail(p), p.lowest_m, p.highest_m))
    frame = _frame(p, distance)
    x, y = _spread(p.width, frame[0], p.overlap), _spread(p.depth, frame[1], p.across)
    out = []
    for k, b in enumerate(y):
        for a in x[:: 1 if k % 2 == 0 else -1]:
            center = np.array([a, b, distance])
            out.append(Station(look_at(center, [a, b + 0.01 * distance, 0.0]), center, k))
    for j, side in enumerate((-1.0, 1.0)):
        for a in x:
            center = np.array([a, side * (p.depth / 2 + 0.4 * distance), 0.85 * distance])
            out.append(Station(look_at(center, [a, side * p.depth / 4, 0.0]), center, len(y) + j, "slanted"))
    out = [s for s in out if not p.blocked(list(s.center))]
    across = _shared(y[1] - y[0], frame[1]) if len(y) > 1 else 1.0
    return Strips(out, len(x), [distance], distance, _shared(x[1] - x[0], frame[0]), across)


Walk = list[tuple[Array, Array]]


def _straight(a: Array, b: Array, inward: Array, step: float) -> Walk:
    """Places from a to b (2,), all looking one way."""
    n = max(1, math.ceil(float(np.linalg.norm(b - a)) / step - 1e-9))
    return [(a + (b - a) * i / n, inward) for i in range(n + 1)]


def _bend(middle: Array, radius: float, start: float, end: float, step: float) -> Walk:
    """Places on an arc that look at and beyond its middle, without its ends; angles in degrees, turn 0 at -y."""
    n = math.ceil(abs(end - start) / step - 1e-9)
    out = []
    for i in range(1, n):
        a = math.radians(start + (end - start) * i / n)
        away = np.array([math.sin(a), -math.cos(a)])
        out.append((middle + radius * away, -away))
    return out


def _corner_walk(p: Request, distance: float, step: float) -> Walk:
    """Along the back wall, round to face the corner, along the left wall."""
    left, back = -p.width / 2, p.depth / 2
    r = distance / 2
    middle = np.array([left + distance - r, back - distance + r])
    first = _straight(
        np.array([left + BACK, back - distance]), np.array([p.width / 2, back - distance]), np.array([0.0, 1.0]), step
    )
    second = _straight(
        np.array([left + distance, -p.depth / 2]), np.array([left + distance, back - BACK]), np.array([-1.0, 0.0]), step
    )
    return first + _bend(middle, r, 0.0, 90.0, p.step_deg) + second


def _room_walk(p: Request, step: float) -> Walk:
    """All along the walls with the back to them, round the corners in small steps."""
    out: Walk = []
    half = np.array([p.width, p.depth]) / 2 - min(BACK, 0.2 * min(p.width, p.depth))
    r = 0.4 * float(half.min())
    for quarter in range(4):
        a = math.radians(90 * quarter)
        turn = np.array([[math.cos(a), -math.sin(a)], [math.sin(a), math.cos(a)]])
        w, d = half if quarter % 2 == 0 else half[::-1]
        side = _straight(np.array([-w + r, -d]), np.array([w - r, -d]), np.array([0.0, 1.0]), step)
        bend = _bend(np.array([w - r, -d + r]), r, 0.0, 90.0, p.step_deg)
        out += [(turn @ c, turn @ i) for c, i in side + bend]
    return out


def inside(p: Request, watcher: Watcher) -> Strips:
    """A corner of two walls, or a room, from inside."""
    if p.kind == "corner":
        fit = p.height * p.camera.fy / (0.8 * p.pixels_high)
        distance = _by_detail(p, max(fit, 0.5))
    else:
        distance = min(p.width, p.depth) - min(BACK, 0.2 * min(p.width, p.depth))
    frame = _frame(p, distance)
    levels = p.rings or max(2, math.ceil((p.height - frame[1]) / ((1 - p.across) * frame[1])) + 1)
    low, high = np.clip([0.3 * p.height, 0.75 * p.height], p.lowest_m, p.highest_m)
    heights = [float(h) for h in (np.linspace(low, high, levels) if levels > 1 else [(low + high) / 2])]
    aims = np.linspace(0.25 * p.height, 0.7 * p.height, levels) if levels > 1 else [0.5 * p.height]
    shared = 1.0
    step = (1 - p.overlap) * frame[0]
    for _ in range(6):  # what neighbours see of each other's pictures decides, not the frame alone
        walk = _corner_walk(p, distance, step) if p.kind == "corner" else _room_walk(p, step)
        strip = [_looking(c, i, distance, heights[0], float(aims[0]), 0) for c, i in walk]
        pairs = [watcher.overlap(a, b) for a, b in pairwise(strip) if np.linalg.norm(a.center - b.center) < 3 * step]
        shared = float(np.mean(pairs)) if pairs else 1.0
        if shared >= p.overlap:
            break
        step *= 0.8
    out = []
    for k, h in enumerate(heights):
        for c, i in walk[:: 1 if k % 2 == 0 else -1]:
            s = _looking(c, i, distance, h, float(aims[k]), k)
            if not p.blocked(list(s.center)):
                out.append(s)
    out += _floor(p, heights[-1], len(heights))
    across = _shared(abs(float(aims[1]) - float(aims[0])), frame[1]) if levels > 1 else 1.0
    return Strips(out, len(walk), heights, distance, shared, across)


def _floor(p: Request, height: float, ring: int) -> list[Station]:
    """Shots of the floor in strips, looking down at a slant, since from along the walls it is seen too flatly."""
    frame = _frame(p, 1.1 * height)
    rows = np.linspace(-p.depth / 2, p.depth / 2, max(2, math.ceil(p.depth / ((1 - p.across) * frame[1])) + 1))
    half = p.width / 2 - BACK
    places = np.linspace(-half, half, max(3, math.ceil(2 * half / ((1 - p.overlap) * frame[0])) + 1))
    out = []
    for j, y in enumerate(rows):
        # with the back to the front wall of a room there is no room to look at its foot: look the other way
        stand = y - 0.5 * height
        if p.kind == "room" and stand < -p.depth / 2 + BACK:
            stand = y + 0.5 * height
        for x in places[:: 1 if j % 2 == 0 else -1]:
            center = np.array([x, stand, height])
            if not p.blocked(list(center)):
                out.append(Station(look_at(center, [x, y, 0.0]), center, ring, "floor"))
    return out


def _looking(center: Array, inward: Array, distance: float, height: float, aim: float, ring: int) -> Station:
    at = np.array([*center, height])
    return Station(look_at(at, [*(center + inward * distance), aim]), at, ring)


STRIPS = {"wall": wall, "ground": ground, "corner": inside, "room": inside}
