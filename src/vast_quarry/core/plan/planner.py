"""A shooting plan: from subject, reach, light, camera and wish to stations, and what they will give.

The parts are worked out next door: laps in :mod:`.laps`, strips in :mod:`.strips`, light in :mod:`.light`, sentences in
:mod:`.findings`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.coverage import Coverage, Mend, Watcher, next_best
from vast_quarry.core.plan.findings import (
    coverage_findings,
    optics_findings,
    reach_radius,
    spot_findings,
    subject_findings,
)
from vast_quarry.core.plan.laps import LapPlan, around, place
from vast_quarry.core.plan.light import Lit, light_findings, lit
from vast_quarry.core.plan.optics import depth_precision
from vast_quarry.core.plan.request import IN_STRIPS, Obstacle, Request
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.plan.standin import StandIn, make_standin
from vast_quarry.core.plan.strips import STRIPS, Strips
from vast_quarry.core.pose import look_at
from vast_quarry.core.words import Said, say

Array = NDArray[np.float64]

#: where coverage is worked out, stand-ins have about so many patches
PATCHES = 4000
#: highest something is flown where nothing else is said (m)
FLYING = 120.0
#: how well depth maps of half the photos' size (grade Dressed) are matched, in pixels of the photos; measured on the rig
#: (docs/benchmarks.md), against 0.3 at full size
MATCH_DRESSED_PX = 0.45
#: of what the best photo sees of a marked area, a photo that counts sees at least so much
USEFUL = 0.15


@dataclass(frozen=True)
class Plan:
    """A worked-out plan.

    ``stations`` are the shots in order, ``numbers`` their numbers before any was left out (-1 for further shots).
    """

    request: Request
    standin: StandIn
    watcher: Watcher
    distance: float
    laps: list[LapPlan]
    per_ring: int
    stations: list[Station]
    numbers: list[int]
    coverage: Coverage
    light: Lit
    along: float
    across: float
    findings: list[Said] = field(default_factory=list)

    @property
    def elevations(self) -> list[float]:
        """Elevations of the laps in degrees; for strips their heights in m."""
        return [lap.rise for lap in self.laps]

    @property
    def base(self) -> float:
        """Distance between neighbours of the widest lap, or between photos of a strip that share half (m)."""
        if self.request.in_strips:
            row = [s.center for s in self.stations if s.ring == 0]
            steps = [float(np.linalg.norm(b - a)) for a, b in pairwise(row)]
            # photos further along the strip help as long as they share half of what they see
            far = max(1.0, math.floor(0.5 / max(1.0 - self.along, 0.05) + 1e-9))
            return far * float(np.median(steps)) if steps else 0.0
        flattest = min((abs(e) for e in self.elevations), default=0.0)
        return 2 * self.distance * math.cos(math.radians(flattest)) * math.sin(math.radians(self.step / 2))

    @property
    def step(self) -> float:
        """Degrees between neighbours of a lap."""
        return self.request.arc / self.per_ring if self.per_ring else 0.0

    @property
    def precision(self) -> float:
        """Expected depth precision between neighbours in m, at grade Dressed."""
        inward = 0.0 if self.request.in_strips else float(self.standin.size[1]) / 2
        surface = max(self.distance - inward, 0.1 * self.distance)
        return depth_precision(surface, self.base, self.request.camera.fx, MATCH_DRESSED_PX)


def box_mesh(o: Obstacle) -> tuple[Array, NDArray[np.int64]]:
    low, high = np.minimum(o.low, o.high), np.maximum(o.low, o.high)
    v = np.array(
        [[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)]
    )
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    return v, np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))])


def subject(p: Request, patches: int = PATCHES, mesh: StandIn | None = None) -> tuple[Request, StandIn]:
    """The stand-in of a plan, and the request with what follows from it (sizes of a mesh, the arc of a front)."""
    if mesh is not None and p.shape == "mesh" and not p.in_strips:
        standin = mesh
        x, y, z = (float(v) for v in mesh.size)
        p = replace(p, width=max(x, 1e-4), depth=max(y, 1e-4), height=max(z, 1e-4))
    elif p.shape == "mesh" and not p.in_strips:
        raise PlainError("There is no mesh to stand in.", "Bring one in, or choose another shape.")
    else:
        shape = IN_STRIPS.get(p.kind, p.shape)
        standin = make_standin(shape, p.width, p.depth, p.height, patches, p.underside)
    if p.kind == "flown" and p.highest_m == Request.highest_m:
        p = replace(p, highest_m=FLYING)
    if p.kind == "front":
        standin = replace(standin, wanted=standin.wanted & (standin.normals[:, 1] < -0.25))
        if p.whole:
            p = replace(p, from_deg=-60.0, to_deg=60.0)
    if p.kind == "area":
        if not p.marked:
            raise PlainError("No area is marked.", "Paint on the stand-in what is wanted.")
        balls = np.array(p.marked)
        inside = np.linalg.norm(standin.centers[:, None] - balls[None, :, :3], axis=2) <= balls[:, 3]
        standin = replace(standin, wanted=standin.wanted & inside.any(1))
        if not standin.wanted.any():
            raise PlainError("The marked area lies beside the subject.", "Mark it anew.")
    return p, standin


def _shots(p: Request, watcher: Watcher) -> tuple[list[Station], list[LapPlan], int, float, float, float]:
    """Stations, laps, photos a lap, distance, overlap along and across."""
    if p.in_strips:
        s: Strips = STRIPS[p.kind](p, watcher)
        strips = [LapPlan(h, s.per_strip, s.distance, h) for h in s.heights]
        return s.stations, strips, s.per_strip, s.distance, s.along, s.across
    a = around(p, watcher, watcher.standin.size)
    stations = a.stations
    if p.kind == "area":
        area = watcher.look(stations)[0] @ np.where(watcher.standin.wanted, watcher.standin.areas, 0.0)
        stations = [s for s, x in zip(stations, area) if x >= max(USEFUL * float(area.max(initial=0.0)), 1e-12)]
    return stations, a.laps, max((lap.count for lap in a.laps), default=0), a.distance, a.along, a.across


def make_plan(p: Request, patches: int = PATCHES, mesh: StandIn | None = None) -> Plan:
    """Work out a plan; ``mesh`` stands in where the shape asked for is a mesh.

    Raises
    ------
    PlainError
        When the reach leaves no place to stand.
    """
    if p.lowest_m > p.highest_m or p.least_m > p.greatest_m:
        raise PlainError("The reach leaves no position: its least is more than its greatest.", "Swap the two limits.")
    p, standin = subject(p, patches, mesh)
    obstacles = [box_mesh(o) for o in p.obstacles]
    stations, laps, per_ring, distance, along, across = _shots(p, Watcher(standin, p.camera, obstacles=obstacles))
    if not stations:
        raise PlainError(
            "The reach leaves no position to shoot from.", "Move an obstacle, or allow another height or distance."
        )
    watcher = Watcher(standin, p.camera, p.optics(distance).sharp_m(), obstacles)
    gone, moved = set(p.removed), {int(m[0]): np.array(m[1:], float) for m in p.moved}
    kept = [(n, _moved(s, moved.get(n), standin.middle)) for n, s in enumerate(stations) if n not in gone]
    target = np.array([0.0, 0.0, p.height * 0.47])
    kept += [(-1, Station(look_at(c, target), np.array(c), len(laps), "added")) for c in p.extra]
    if not kept:
        raise PlainError("Every planned shot is left out.", "Take some back.")
    shots = [s for _, s in kept]
    plan = Plan(
        p, standin, watcher, distance, laps, per_ring, shots, [n for n, _ in kept], watcher.coverage(shots),
        lit(watcher, p.light, p.way == "turntable"), along, across,
    )  # fmt: skip
    plan.findings.extend(_findings(plan))
    return plan


def _moved(s: Station, center: Array | None, middle: Array) -> Station:
    """A station that stands elsewhere and looks at the place it looked at, as far as that is known."""
    if center is None:
        return s
    forward = s.rotation[2]
    reach = max(float((middle - s.center) @ forward), 1e-3)
    return replace(s, rotation=look_at(center, s.center + reach * forward), center=center)


def _beside(plan: Plan) -> list[Station]:
    """Places like the planned ones, a little off, looking up, down and to the sides."""
    out = []
    for s in plan.stations:
        aim = s.center + plan.distance * s.rotation[2]
        for dx, dz in ((0.3, 0.0), (-0.3, 0.0), (0.0, 0.4), (0.0, -0.4), (0.3, -0.3), (-0.3, -0.3)):
            to = aim + plan.distance * (dx * s.rotation[0] + np.array([0, 0, dz]))
            center = s.center + 0.05 * plan.distance * s.rotation[0]
            if not plan.request.blocked(list(center)):
                out.append(Station(look_at(center, to), center, len(plan.laps), "added"))
    return out


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
    if p.in_strips:
        near = _before_wall(p, plan.distance) if p.kind == "wall" else _beside(plan)
        return next_best(plan.watcher, plan.stations, near, shots)
    candidates = []
    for rise in (-10.0, 0.0, 10.0, 20.0, 30.0, 40.0, 50.0, 60.0, 70.0, 80.0):
        for turn in np.arange(0.0, 360.0, 12.0):
            if not p.whole and (turn - p.from_deg) % 360 > p.arc:
                continue
            for closer in (1.0, 0.7):
                distance = max(plan.distance * closer, p.least_m)
                station = place(p, target, distance, float(turn), rise, len(plan.laps))
                if station is not None:
                    candidates.append(station)
    return next_best(plan.watcher, plan.stations, candidates, shots)


def _findings(plan: Plan) -> list[Said]:
    p = plan.request
    few = 1 - plan.coverage.share_seen(plan.standin)
    out = optics_findings(p, p.optics(plan.distance), reach_radius(p))
    out += coverage_findings(p, few, plan.along, plan.across, len(plan.laps))
    out += spot_findings(plan.stations, plan.distance)
    out += light_findings(p, plan.watcher, plan.light, plan.stations)
    if not p.in_strips and few > 0.01:
        out += _reach_findings(plan, 1 - few)
    return out + subject_findings(p)


def _reach_findings(plan: Plan, now: float) -> list[Said]:
    """What a pole, or pulling the subject into the open, would gain."""
    out: list[Said] = []
    p = replace(plan.request, removed=(), extra=(), moved=(), laps=(), underside=False, close_ups=0, establishing=0)
    mesh = plan.standin if p.shape == "mesh" else None
    if max(s.center[2] for s in plan.stations) >= p.highest_m - 1e-6:
        gain = _seen(replace(p, highest_m=1000.0), mesh) - now
        if gain > 0.01:
            out.append(
                say(
                    "A pole with a remote release would show {percent} % more of the surface to three photos.",
                    percent=round(100 * gain),
                )
            )
    if p.obstacles or (not p.whole and p.kind == "object"):
        gain = _seen(replace(p, obstacles=(), from_deg=0.0, to_deg=360.0), mesh) - now
        if gain > 0.01:
            out.append(
                say(
                    "Pulled into the open, with a way all round, {percent} % more of the surface would be seen by three photos.",
                    percent=round(100 * gain),
                )
            )
    return out


def _seen(p: Request, mesh: StandIn | None) -> float:
    """Share of the surface that three photos see, coarsely."""
    p, standin = subject(p, 1500, mesh)
    watcher = Watcher(standin, p.camera, obstacles=[box_mesh(o) for o in p.obstacles])
    stations = _shots(p, watcher)[0]
    return watcher.coverage(stations).share_seen(standin) if stations else 0.0
