"""A shooting plan: from subject, reach, camera and wish to stations, and what they will give.

Common practice, no source: neighbouring photos are never more than 30 degrees apart and share 60 % or more; 18 degrees
and 75 % are comfortable; the subject fills 60 to 90 % of the frame; some wider photos tie the laps together.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.advice import Skin, Way, advice
from vast_quarry.core.plan.coverage import ENOUGH, Coverage, Mend, Watcher, next_best
from vast_quarry.core.plan.optics import Optics, airy_diameter, depth_precision, diffraction_limit
from vast_quarry.core.plan.rings import Station, fitting_distance
from vast_quarry.core.plan.standin import Shape, StandIn, make_standin
from vast_quarry.core.pose import look_at

Array = NDArray[np.float64]

#: neighbours of a ring are never further apart (degrees)
WIDEST_STEP = 30.0
#: most photos of one ring
MOST_PER_RING = 72
#: where coverage is worked out, stand-ins have about so many patches
PATCHES = 4000


@dataclass(frozen=True)
class Obstacle:
    """A box that is in the way, by two corners (m)."""

    low: tuple[float, float, float]
    high: tuple[float, float, float]


@dataclass(frozen=True)
class Request:
    """What is to be photographed, with what, from where; lengths in metres unless said otherwise.

    Attributes
    ----------
    kind : str
        An object all round, its front, or a wall seen from -y.
    overlap, across : float
        What neighbouring photos of a lap, and neighbouring laps, are to share.
    step_deg : float
        Most degrees between neighbours of a lap.
    rings : int
        Laps or strips; 0 lets the overlap across decide.
    lowest_m, highest_m, from_deg, to_deg, least_m, greatest_m, obstacles
        Reach: heights a camera can be held at, the way round, distances, boxes that are in the way.
    skin, way, holes, recesses, underside, turnable
        What is known of the subject, for advice; see :mod:`.advice`.
    removed : tuple of int
        Numbers of planned shots that are left out.
    extra : tuple of (float, float, float)
        Further places to shoot from, at the middle of the subject.
    """

    kind: Literal["object", "front", "wall"] = "object"
    shape: Shape = "box"
    width: float = 0.34
    depth: float = 0.21
    height: float = 0.62
    pixels_wide: int = 1200
    pixels_high: int = 900
    sensor_mm: float = 17.3
    focal_mm: float = 20.0
    f_number: float = 8.0
    detail_mm: float = 1.0
    overlap: float = 0.75
    across: float = 0.6
    step_deg: float = 18.0
    rings: int = 3
    lowest_m: float = 0.05
    highest_m: float = 2.2
    from_deg: float = 0.0
    to_deg: float = 360.0
    least_m: float = 0.0
    greatest_m: float = 1000.0
    obstacles: tuple[Obstacle, ...] = ()
    skin: Skin = "matt"
    way: Way = "walk"
    holes: bool = False
    recesses: bool = False
    underside: bool = False
    turnable: bool = True
    removed: tuple[int, ...] = ()
    extra: tuple[tuple[float, float, float], ...] = ()

    @property
    def camera(self) -> Camera:
        """The planned camera, without distortion."""
        return Camera.simple(self.pixels_wide, self.pixels_high, self.focal_mm / self.sensor_mm * self.pixels_wide)

    def optics(self, distance: float) -> Optics:
        """The lens focused at a distance."""
        sensor = (self.sensor_mm, self.sensor_mm * self.pixels_high / self.pixels_wide)
        return Optics(sensor, (self.pixels_wide, self.pixels_high), self.focal_mm, self.f_number, distance)


@dataclass(frozen=True)
class Plan:
    """A worked-out plan.

    ``stations`` are the shots in order, ``numbers`` their numbers before any was left out (-1 for further shots).
    """

    request: Request
    standin: StandIn
    watcher: Watcher
    distance: float
    elevations: list[float]
    per_ring: int
    stations: list[Station]
    numbers: list[int]
    coverage: Coverage
    along: float
    across: float
    findings: list[str]

    @property
    def base(self) -> float:
        """Distance between neighbours of the widest lap (m)."""
        if self.request.kind == "wall":
            row = [s.center for s in self.stations if s.ring == 0]
            return float(np.linalg.norm(row[1] - row[0])) if len(row) > 1 else 0.0
        flattest = min((abs(e) for e in self.elevations), default=0.0)
        return 2 * self.distance * math.cos(math.radians(flattest)) * math.sin(math.radians(self.step / 2))

    @property
    def step(self) -> float:
        """Degrees between neighbours of a lap."""
        return _arc(self.request) / self.per_ring if self.per_ring else 0.0

    @property
    def precision(self) -> float:
        """Expected depth precision between neighbours in m."""
        surface = max(self.distance - float(self.standin.size[1]) / 2, 0.1 * self.distance)
        return depth_precision(surface, self.base, self.request.camera.fx)


def _arc(p: Request) -> float:
    arc = p.to_deg - p.from_deg
    return 360.0 if arc <= 0 or arc >= 360 else arc


def _place(p: Request, target: Array, distance: float, turn: float, rise: float, ring: int) -> Station | None:
    """A station on a lap, as near to its elevation as the reach allows; None where there is no standing."""
    e = math.radians(rise)
    z = target[2] + distance * math.sin(e)
    z = min(max(z, p.lowest_m), p.highest_m)
    flat = math.sqrt(max(distance**2 - (z - target[2]) ** 2, (0.2 * distance) ** 2))
    a = math.radians(turn)
    center = np.array([target[0] + flat * math.sin(a), target[1] - flat * math.cos(a), z])
    for o in p.obstacles:
        if all(o.low[k] <= center[k] <= o.high[k] for k in range(3)):
            return None
    return Station(look_at(center, target), center, ring)


def _box_mesh(o: Obstacle) -> tuple[Array, NDArray[np.int64]]:
    low, high = np.minimum(o.low, o.high), np.maximum(o.low, o.high)
    v = np.array(
        [[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)]
    )
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    return v, np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])


def _photos_a_lap(p: Request, watcher: Watcher, target: Array, distance: float, rise: float) -> tuple[int, float]:
    """Photos a lap needs for the wanted overlap, worked out by what neighbours see of the stand-in; and the overlap."""
    arc = _arc(p)
    turns = np.linspace(p.from_deg, p.from_deg + arc, 6, endpoint=False)

    def shared(n: int) -> float:
        each = []
        for t in turns:
            pair = [_place(p, target, distance, t + k * arc / n, rise, 0) for k in (0, 1)]
            if pair[0] is not None and pair[1] is not None:
                each.append(watcher.overlap(pair[0], pair[1]))
        return float(np.mean(each)) if each else 1.0

    n = max(1, math.ceil(arc / p.step_deg - 1e-9))
    most = max(n, round(MOST_PER_RING * arc / 360))
    while n < most and shared(n) < p.overlap:
        n += max(1, n // 10)
    n = min(n, most)
    return n, shared(n)


def _laps(p: Request, watcher: Watcher, target: Array, distance: float) -> tuple[list[float], float]:
    """Elevations of the laps in degrees, lowest first, and what neighbouring laps share."""
    floor = math.degrees(math.asin(np.clip((p.lowest_m - target[2]) / distance, -1, 1)))
    roof = math.degrees(math.asin(np.clip((p.highest_m - target[2]) / distance, -1, 1)))
    low, high = max(floor, 5.0), min(max(roof, floor), 60.0)
    low = min(low, high)

    def shared(elevations: list[float]) -> float:
        each = []
        for a, b in itertools.pairwise(elevations):
            pair = [_place(p, target, distance, p.from_deg + _arc(p) / 2, e, 0) for e in (a, b)]
            if pair[0] is not None and pair[1] is not None:
                each.append(watcher.overlap(pair[0], pair[1]))
        return min(each, default=1.0)

    def spread(n: int) -> list[float]:
        if n == 1:
            return [float(np.clip(25.0, low, high))]
        if n == 2:
            return [float(np.clip(15.0, low, high)), float(np.clip(40.0, low, high))]
        return [float(e) for e in np.linspace(low, min(high, 55.0), n)]

    if p.rings:
        laps = spread(p.rings)
        return laps, shared(laps)
    for n in range(2, 9):
        laps = spread(n)
        if shared(laps) >= p.across:
            break
    return laps, shared(laps)


def _wall(p: Request, distance: float) -> tuple[list[Station], int, list[float], float, float]:
    """Strips along a wall seen from -y: stations, photos a strip, heights, and overlap along and across."""
    camera = p.camera
    frame = distance * p.pixels_wide / camera.fx, distance * p.pixels_high / camera.fx
    # one step beyond each end, so that the ends are in several photos too
    step = (1 - p.overlap) * frame[0]
    half = max(p.width / 2 - frame[0] / 2, 0.0) + step
    n = math.ceil(2 * half / step - 1e-9) + 1
    m = p.rings or max(1, math.ceil((p.height - frame[1]) / ((1 - p.across) * frame[1])) + 1)
    x = np.linspace(-half, half, n)
    rest = max(p.height - frame[1], 0.0)
    z = [p.height / 2] if m == 1 else list(np.linspace(p.height / 2 - rest / 2, p.height / 2 + rest / 2, m))
    z = [float(np.clip(h, p.lowest_m, p.highest_m)) for h in z]
    out = []
    for k, h in enumerate(z):
        for a in x[:: 1 if k % 2 == 0 else -1]:
            center = np.array([a, -p.depth / 2 - distance, h])
            # a camera that cannot be held high enough is tilted
            aim = (
                h
                if m == 1 or abs(h - p.height / 2) < 1e-9
                else float(np.clip(h, frame[1] / 2, max(p.height - frame[1] / 2, frame[1] / 2)))
            )
            if not any(all(o.low[i] <= center[i] <= o.high[i] for i in range(3)) for o in p.obstacles):
                out.append(Station(look_at(center, [a, -p.depth / 2, aim]), center, k))
    along = 1 - (x[1] - x[0]) / frame[0] if n > 1 else 1.0
    across = 1 - (z[1] - z[0]) / frame[1] if m > 1 else 1.0
    return out, n, z, float(np.clip(along, 0, 1)), float(np.clip(across, 0, 1))


def make_plan(p: Request, patches: int = PATCHES) -> Plan:
    """Work out a plan.

    Raises
    ------
    PlainError
        When the reach leaves no place to stand.
    """
    shape: Shape = "panel" if p.kind == "wall" else p.shape
    standin = make_standin(shape, p.width, p.depth, p.height, patches, p.underside)
    if p.kind == "front":
        standin = replace(standin, wanted=standin.wanted & (standin.normals[:, 1] < -0.25))
        if _arc(p) >= 360:
            p = replace(p, from_deg=-60.0, to_deg=60.0)
    camera = p.camera
    target = np.array([0.0, 0.0, p.height * 0.47])
    if p.lowest_m > p.highest_m or p.least_m > p.greatest_m:
        raise PlainError("The reach leaves no position: its least is more than its greatest.", "Swap the two limits.")
    fit = p.detail_mm / 2000 * camera.fx if p.kind == "wall" else fitting_distance(standin.size, camera)
    distance = float(np.clip(fit, p.least_m, p.greatest_m))
    distance = max(distance, 2.0 * p.focal_mm / 1000)
    obstacles = [_box_mesh(o) for o in p.obstacles]
    near, far = p.optics(distance).sharp_m()
    watcher = Watcher(standin, camera, (near, far), obstacles)
    if p.kind == "wall":
        stations, per_ring, levels, along, across = _wall(p, distance)
    else:
        levels, across = _laps(p, watcher, target, distance)
        per_ring, along = _photos_a_lap(p, watcher, target, distance, float(np.median(levels)))
        arc, whole = _arc(p), _arc(p) >= 360
        places = []
        for k, rise in enumerate(levels):
            for i in range(per_ring if whole else per_ring + 1):
                turn = p.from_deg + arc * (i + (0.5 * (k % 2) if whole else 0.0)) / per_ring
                places.append(_place(p, target, distance, turn, rise, k))
        stations = [s for s in places if s is not None]
    if not stations:
        raise PlainError(
            "The reach leaves no position to shoot from.", "Move an obstacle, or allow another height or distance."
        )
    gone = set(p.removed)
    kept = [(n, s) for n, s in enumerate(stations) if n not in gone]
    kept += [(-1, Station(look_at(c, target), np.array(c), len(levels))) for c in p.extra]
    if not kept:
        raise PlainError("Every planned shot is left out.", "Take some back.")
    coverage = watcher.coverage([s for _, s in kept])
    plan = Plan(
        p, standin, watcher, distance, levels, per_ring, [s for _, s in kept], [n for n, _ in kept], coverage, along, across, [],
    )  # fmt: skip
    plan.findings.extend(_findings(plan))
    return plan


def _before_wall(p: Request, distance: float) -> list[Station]:
    """Places before a wall that could be shot from, square on and from the side."""
    out = []
    for x in np.linspace(-0.6 * p.width, 0.6 * p.width, 24):
        for z in np.linspace(max(p.lowest_m, 0.02 * p.height), min(p.highest_m, p.height), 8):
            center = np.array([x, -p.depth / 2 - distance, z])
            for aim in (x, x + 0.35 * distance, x - 0.35 * distance):
                for up in (z, float(np.clip(p.height - 0.3 * distance, z, p.height))):
                    out.append(Station(look_at(center, [aim, -p.depth / 2, up]), center, p.rings))
    return out


def mend(plan: Plan, shots: int) -> list[Mend]:
    """Further shots that mend the worst patches, from anywhere in reach."""
    p, target = plan.request, np.array([0.0, 0.0, plan.request.height * 0.47])
    if p.kind == "wall":
        return next_best(plan.watcher, plan.stations, _before_wall(p, plan.distance), shots)
    candidates = []
    for rise in (-10.0, 0.0, 10.0, 20.0, 30.0, 40.0, 50.0, 60.0, 70.0, 80.0):
        for turn in np.arange(0.0, 360.0, 12.0):
            if _arc(p) < 360 and (turn - p.from_deg) % 360 > _arc(p):
                continue
            for closer in (1.0, 0.7):
                distance = max(plan.distance * closer, p.least_m)
                station = _place(p, target, distance, float(turn), rise, len(plan.elevations))
                if station is not None:
                    candidates.append(station)
    return next_best(plan.watcher, plan.stations, candidates, shots)


def _findings(plan: Plan) -> list[str]:
    p, o = plan.request, plan.request.optics(plan.distance)
    out = []
    finest = 2 * max(o.gsd_mm, airy_diameter(p.f_number) / o.pitch_mm * o.gsd_mm / 2)
    if o.gsd_mm > p.detail_mm / 2 * 1.001:
        out.append(
            f"Detail of {p.detail_mm:g} mm needs a GSD of {p.detail_mm / 2:.2g} mm; from here it is {o.gsd_mm:.2g} mm. "
            f"{finest:.2g} mm is the finest that can be told apart. Go closer with more photos, or use a longer lens or more pixels."
        )
    near, far = o.sharp_m()
    reach = float(np.hypot(p.width, p.depth)) / 2 if p.kind != "wall" else 0.0
    if near > plan.distance - reach or far < plan.distance + reach:
        out.append("Not the whole depth of the subject is in focus. Close the aperture or step back.")
    limit = diffraction_limit(o.pitch_mm)
    if p.f_number > limit * 1.05:
        out.append(f"Diffraction softens the picture beyond f/{limit:.0f} with pixels of {o.pitch_mm * 1000:.1f} um.")
    if plan.along < 0.6:
        out.append(f"Neighbouring photos share only {100 * plan.along:.0f} %; 60 % is the least that aligns well.")
    if plan.across < 0.4 and len(plan.elevations) > 1:
        out.append(f"Neighbouring laps share only {100 * plan.across:.0f} %. Add a lap between them.")
    few = 1 - plan.coverage.share_seen(plan.standin)
    if few > 0.01:
        out.append(f"{100 * few:.0f} % of the surface is seen by fewer than {ENOUGH} photos. Add shots that mend it.")
    if p.kind != "wall" and plan.stations:
        top = max(s.center[2] for s in plan.stations)
        if top >= p.highest_m - 1e-6 and few > 0.01:
            free = make_plan(replace(p, highest_m=1000.0, removed=(), extra=()), 1500)
            gain = free.coverage.share_seen(free.standin) - (1 - few)
            if gain > 0.01:
                out.append(
                    f"A pole with a remote release would show {100 * gain:.0f} % more of the surface to three photos."
                )
    out += advice(p.skin, p.way, p.holes, p.recesses, p.underside, p.turnable)
    return out
