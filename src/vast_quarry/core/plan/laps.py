"""Laps about a subject: where they run, how many photos each needs, and the shots that belong to them.

Common practice, no source: neighbouring photos are never more than 30 degrees apart and share 60 % or more; 18 degrees
and 75 % are comfortable; some wider photos tie the laps together; from lap to lap a few shots lead up.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.plan.coverage import Watcher
from vast_quarry.core.plan.request import Request
from vast_quarry.core.plan.rings import Station, fitting_distance
from vast_quarry.core.pose import look_at

Array = NDArray[np.float64]

#: most photos of one ring
MOST_PER_RING = 72
#: from lap to lap shots are at most so many degrees apart
LEADING = 12.0
#: lap from below for an underside (degrees); the subject is turned over or raised
FROM_BELOW = -35.0


@dataclass(frozen=True)
class LapPlan:
    """One lap: elevation (degrees), photos, distance, and the height it aims at."""

    rise: float
    count: int
    distance: float
    aim: float


@dataclass(frozen=True)
class Laps:
    """Laps with what neighbours share along and across, and their shots."""

    laps: list[LapPlan]
    distance: float
    along: float
    across: float
    stations: list[Station]


def place(p: Request, target: Array, distance: float, turn: float, rise: float, ring: int) -> Station | None:
    """A station on a lap, as near to its elevation as the reach allows; None where there is no standing."""
    e = math.radians(rise)
    z = min(max(target[2] + distance * math.sin(e), p.lowest_m), p.highest_m)
    flat = math.sqrt(max(distance**2 - (z - target[2]) ** 2, (0.2 * distance) ** 2))
    a = math.radians(turn)
    center = np.array([target[0] + flat * math.sin(a), target[1] - flat * math.cos(a), z])
    return None if p.blocked(list(center)) else Station(look_at(center, target), center, ring)


def _shared_along(p: Request, watcher: Watcher, target: Array, lap: LapPlan, n: int) -> float:
    """Mean share of what a photo of a lap sees that its neighbour sees too."""
    aim = np.array([target[0], target[1], lap.aim])
    each = []
    for t in np.linspace(p.begin_deg, p.begin_deg + p.arc, 6, endpoint=False):
        pair = [place(p, aim, lap.distance, t + k * p.arc / n, lap.rise, 0) for k in (0, 1)]
        if pair[0] is not None and pair[1] is not None:
            each.append(watcher.overlap(pair[0], pair[1]))
    return float(np.mean(each)) if each else 1.0


def photos_a_lap(p: Request, watcher: Watcher, target: Array, lap: LapPlan) -> tuple[int, float]:
    """Photos a lap needs for the wanted overlap, worked out by what neighbours see of the stand-in; and the overlap."""
    n = max(1, math.ceil(p.arc / p.step_deg - 1e-9))
    most = max(n, round(MOST_PER_RING * p.arc / 360))
    while n < most and _shared_along(p, watcher, target, lap, n) < p.overlap:
        n += max(1, n // 10)
    n = min(n, most)
    return n, _shared_along(p, watcher, target, lap, n)


def _shared_across(p: Request, watcher: Watcher, target: Array, laps: list[LapPlan]) -> list[float]:
    """What each lap shares with the next, in the middle of the way."""
    each = []
    turn = p.begin_deg + p.arc / 2
    for a, b in itertools.pairwise(laps):
        pair = [place(p, np.array([target[0], target[1], x.aim]), x.distance, turn, x.rise, 0) for x in (a, b)]
        good = pair[0] is not None and pair[1] is not None
        each.append(watcher.overlap(pair[0], pair[1]) if good else 1.0)  # type: ignore[arg-type]
    return each


def _elevations(p: Request, watcher: Watcher, target: Array, distance: float) -> list[float]:
    """Elevations of the laps in degrees, lowest first."""
    floor = math.degrees(math.asin(np.clip((p.lowest_m - target[2]) / distance, -1, 1)))
    roof = math.degrees(math.asin(np.clip((p.highest_m - target[2]) / distance, -1, 1)))
    low, high = max(floor, 25.0 if p.kind == "flown" else 5.0), min(max(roof, floor), 60.0)
    low = min(low, high)

    def spread(n: int) -> list[float]:
        if n == 1:
            return [float(np.clip(25.0, low, high))]
        if n == 2:
            return [float(np.clip(15.0, low, high)), float(np.clip(40.0, low, high))]
        return [float(e) for e in np.linspace(low, min(high, 55.0), n)]

    if p.rings:
        return spread(p.rings)
    for n in range(2, 9):
        laps = spread(n)
        if min(_shared_across(p, watcher, target, [LapPlan(e, 1, distance, target[2]) for e in laps])) >= p.across:
            break
    return laps


def _rows(p: Request, distance: float, target: Array) -> list[float]:
    """Heights to aim at so that rows of frames cover the subject from a distance."""
    frame = max(distance - p.depth / 2, 0.3 * distance) * p.pixels_high / p.camera.fx
    if frame >= 0.95 * p.height:
        return [float(target[2])]
    n = math.ceil((p.height - frame) / ((1 - p.across) * frame)) + 1
    return [float(z) for z in np.linspace(frame / 2, p.height - frame / 2, n)]


def fitting(p: Request, size: Array) -> float:
    """Distance at which the subject fills the frame, as near to it as the reach allows."""
    return _reached(p, fitting_distance(size, p.camera))


def _reached(p: Request, distance: float) -> float:
    return max(float(np.clip(distance, p.least_m, p.greatest_m)), 2.0 * p.focal_mm / 1000)


def _all_laps(p: Request, watcher: Watcher, target: Array, distance: float) -> list[LapPlan]:
    """The laps: as edited, or worked out; photos of one worked out lap serve for all."""
    if p.laps:
        return [LapPlan(w.rise_deg, w.count, _reached(p, w.distance_m or distance), float(target[2])) for w in p.laps]
    if p.by == "detail" and p.rings != 0:
        rows = _rows(p, distance, target)
        high = _elevations(p, watcher, target, distance)
        laps = [LapPlan(high[0], 1, distance, z) for z in rows[:-1]] + [LapPlan(e, 1, distance, rows[-1]) for e in high]
    else:
        laps = [LapPlan(e, 1, distance, float(target[2])) for e in _elevations(p, watcher, target, distance)]
    middle = sorted(laps, key=lambda x: x.rise)[(len(laps) - 1) // 2]
    n, _ = photos_a_lap(p, watcher, target, middle)
    return [replace(lap, count=n) for lap in laps]


def _laps_shots(p: Request, target: Array, laps: list[LapPlan]) -> list[Station]:
    """Shots of the laps in order."""
    columns = p.order == "columns"
    places: list[tuple[float, int, Station | None]] = []
    for k, lap in enumerate(laps):
        aim = np.array([target[0], target[1], lap.aim])
        for i in range(lap.count if p.whole else lap.count + 1):
            shift = 0.5 * (k % 2) if p.whole and not columns else 0.0
            turn = p.arc * (i + shift) / lap.count
            places.append((turn, k, place(p, aim, lap.distance, p.begin_deg + turn, lap.rise, k)))
    if columns:
        places.sort(key=lambda x: (round(x[0], 6), x[1]))
    return [s for _, _, s in places if s is not None]


def _leading(p: Request, target: Array, laps: list[LapPlan], shared: list[float]) -> list[Station]:
    """Shots that lead from lap to lap, on two sides, where laps share less than is wanted."""
    out = []
    for k, (a, b) in enumerate(itertools.pairwise(laps)):
        steps = math.ceil(abs(b.rise - a.rise) / LEADING - 1e-9)
        if shared[k] >= p.across or steps < 2:
            continue
        for turn in (p.begin_deg, p.begin_deg + p.arc / 2):
            for i in range(1, steps):
                t = i / steps
                aim = np.array([target[0], target[1], a.aim + t * (b.aim - a.aim)])
                distance = a.distance + t * (b.distance - a.distance)
                s = place(p, aim, distance, turn, a.rise + t * (b.rise - a.rise), k)
                if s is not None:
                    out.append(replace(s, role="transition"))
    return out


def _others(p: Request, target: Array, distance: float, fit: float, first: int) -> list[Station]:
    """Wider shots, nearer ones, and the lap for an underside."""
    out: list[Station | None] = []
    wide = p.establishing or (12 if distance < 0.8 * fit and p.by == "detail" else 0)
    for i in range(wide):
        s = place(p, target, _reached(p, max(1.5 * distance, fit)), p.begin_deg + p.arc * i / wide, 20.0, first)
        out.append(s and replace(s, role="establishing"))
    for i in range(p.close_ups):
        # turns and heights spread evenly: a golden step from shot to shot
        z = p.height * (0.15 + 0.7 * ((i * 0.618) % 1.0))
        aim = np.array([target[0], target[1], z])
        turn = p.begin_deg + p.arc * i / p.close_ups
        near = max(0.55 * distance, 0.6 * float(np.hypot(p.width, p.depth)))
        s = place(p, aim, _reached(p, near), turn, 10.0, first + 1)
        out.append(s and replace(s, role="close-up"))
    if p.underside:
        free = replace(p, lowest_m=-1e6, highest_m=1e6, obstacles=(), from_deg=0.0, to_deg=360.0)
        for rise in (FROM_BELOW, 1.9 * FROM_BELOW):
            n = max(8, math.ceil(360 / p.step_deg * math.cos(math.radians(rise))))
            for i in range(n):
                s = place(free, target, distance, p.start_deg + 360 * i / n, rise, first + 2)
                out.append(s and replace(s, role="underside"))
    if p.kind == "flown":
        out += _overhead(p, distance, first + 3)
    return [s for s in out if s is not None]


def _overhead(p: Request, distance: float, ring: int) -> list[Station | None]:
    """Shots straight down in strips over something flown round."""
    frame = distance * p.pixels_wide / p.camera.fx, distance * p.pixels_high / p.camera.fx
    z = min(p.height + distance, p.highest_m)
    out: list[Station | None] = []
    counts = [max(3, math.ceil(size / ((1 - o) * f)) + 1) for size, o, f in zip((p.width, p.depth), (p.overlap, p.across), frame)]  # fmt: skip
    for j, y in enumerate(np.linspace(-p.depth / 2, p.depth / 2, counts[1])):
        for x in np.linspace(-p.width / 2, p.width / 2, counts[0])[:: 1 if j % 2 == 0 else -1]:
            center = np.array([x, y, z])
            # a hair forward of straight down, so that the picture has an upper edge
            out.append(Station(look_at(center, [x, y + 0.01 * z, 0.0]), center, ring, "overhead"))
    return out


def around(p: Request, watcher: Watcher, size: Array) -> Laps:
    """Laps about an object, with the shots that lead from one to the next, and further ones that are wished."""
    target = np.array([0.0, 0.0, p.height * 0.47])
    fit = fitting(p, size)
    distance = min(fit, _reached(p, p.detail_mm / 2000 * p.camera.fx + p.depth / 2)) if p.by == "detail" else fit
    laps = _all_laps(p, watcher, target, distance)
    middle = sorted(laps, key=lambda x: x.rise)[(len(laps) - 1) // 2]
    along = _shared_along(p, watcher, target, middle, max(middle.count, 1))
    shared = _shared_across(p, watcher, target, laps)
    stations = _laps_shots(p, target, laps)
    if p.transitions:
        stations += _leading(p, target, laps, shared)
    stations += _others(p, target, distance, fit, len(laps))
    return Laps(laps, distance, along, min(shared, default=1.0), stations)
