"""Plans as files and forms: what is asked, and what comes of it, in plain figures."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from vast_quarry.core.plan import optics, planner
from vast_quarry.core.plan.advice import Skin, Way
from vast_quarry.core.plan.planner import WIDEST_STEP, Plan
from vast_quarry.core.plan.standin import Shape


class Obstacle(BaseModel):
    """A box that is in the way, by two corners (m)."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    low: tuple[float, float, float]
    high: tuple[float, float, float]


class PlanIn(BaseModel):
    """What is to be photographed, with what, from where; lengths in metres unless said otherwise."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    kind: Literal["object", "front", "wall"] = Field("object", description="All round, its front, or a wall")
    shape: Shape = "box"
    width: float = Field(0.34, gt=0.001, le=1000)
    depth: float = Field(0.21, gt=0.001, le=1000)
    height: float = Field(0.62, gt=0.001, le=1000)
    pixels_wide: int = Field(1200, ge=64, le=40_000)
    pixels_high: int = Field(900, ge=64, le=40_000)
    sensor_mm: float = Field(17.3, gt=0.5, le=200)
    focal_mm: float = Field(20.0, gt=0.5, le=3000)
    f_number: float = Field(8.0, gt=0.5, le=128)
    detail_mm: float = Field(1.0, gt=0.001, le=1000, description="Smallest thing to be seen")
    overlap: float = Field(0.75, ge=0.3, le=0.95, description="Shared with the next photo of a lap")
    across: float = Field(0.6, ge=0.2, le=0.95, description="Shared with the photo of the next lap")
    step_deg: float = Field(18.0, ge=3, le=WIDEST_STEP, description="Most degrees between neighbours of a lap")
    rings: int = Field(3, ge=0, le=8, description="Laps or strips; 0 lets the overlap across decide")
    lowest_m: float = Field(0.05, ge=0, le=1000, description="Lowest a camera can be held")
    highest_m: float = Field(2.2, gt=0, le=1000, description="Highest a camera can be held")
    from_deg: float = Field(0.0, ge=-360, le=360, description="Where there is a way round: from")
    to_deg: float = Field(360.0, ge=-360, le=360, description="Where there is a way round: to")
    least_m: float = Field(0.0, ge=0, le=1000, description="Least distance")
    greatest_m: float = Field(1000.0, gt=0, le=10_000, description="Greatest distance")
    obstacles: list[Obstacle] = Field(default_factory=list, max_length=50)
    skin: Skin = "matt"
    way: Way = "walk"
    holes: bool = Field(False, description="Holes through it")
    recesses: bool = Field(False, description="Deep recesses")
    underside: bool = Field(False, description="Its underside is wanted")
    turnable: bool = Field(True, description="It can be turned over")
    removed: list[int] = Field(default_factory=list, max_length=2000, description="Planned shots left out, by number")
    extra: list[tuple[float, float, float]] = Field(
        default_factory=list, max_length=500, description="Further places to shoot from, at the middle of the subject"
    )

    def request(self) -> planner.Request:
        """As the core takes it."""
        values = {n: getattr(self, n) for n in type(self).model_fields}
        values["obstacles"] = tuple(planner.Obstacle(o.low, o.high) for o in self.obstacles)
        return planner.Request(**values | {"removed": tuple(self.removed), "extra": tuple(self.extra)})

    def work_out(self) -> planner.Plan:
        """The plan."""
        return planner.make_plan(self.request())


class StationOut(BaseModel):
    """A planned camera; its number among those computed, -1 for a further shot."""

    number: int
    rotation: list[list[float]]
    center: list[float]
    ring: int


class PlanOut(BaseModel):
    """A shooting plan: lengths in metres unless their names say otherwise."""

    distance: float
    gsd_mm: float
    fine_enough: bool
    near: float
    far: float
    hyperfocal: float
    airy_um: float
    pixel_um: float
    diffraction_f: float
    whole_subject_sharp: bool
    longest_by_hand_s: float
    per_ring: int
    step_deg: float
    elevations: list[float]
    total: int
    along: float
    across: float
    base: float
    precision_mm: float
    focal_px: float
    storage_mb: float
    #: share of the wanted surface by number of photos that see it well: 0, 1, 2, ... 40 and more
    histogram: list[float]
    seen_by_three: float
    stations: list[StationOut]
    findings: list[str]


class PatchesOut(BaseModel):
    """The stand-in's patches for painting: nine numbers of corners each, and what is known of each."""

    corners: list[float]
    count: list[int]
    gsd_mm: list[float | None]
    angle: list[float]
    widest: list[float]
    wanted: list[bool]


#: bytes of a pixel in a JPEG of good quality (common practice, no source)
BYTES_A_PIXEL = 0.45
#: last bar of the histogram: so many photos and more
MOST_COUNTED = 40


def told(plan: Plan) -> PlanOut:
    """A plan as told to the page and written to ``plan.json``."""
    p, o = plan.request, plan.request.optics(plan.distance)
    near, far = o.sharp_m()
    radius = float(np.hypot(p.width, p.depth)) / 2
    area = np.where(plan.standin.wanted, plan.standin.areas, 0.0)
    histogram = np.bincount(
        np.minimum(plan.coverage.count, MOST_COUNTED), weights=area, minlength=MOST_COUNTED + 1
    ) / max(area.sum(), 1e-30)
    return PlanOut(
        distance=plan.distance, gsd_mm=o.gsd_mm, fine_enough=o.gsd_mm <= p.detail_mm / 2 * 1.001, near=near, far=min(far, 1e6),
        hyperfocal=optics.hyperfocal(p.focal_mm, p.f_number, o.circle_mm) / 1000, pixel_um=o.pitch_mm * 1000,
        airy_um=optics.airy_diameter(p.f_number) * 1000, diffraction_f=optics.diffraction_limit(o.pitch_mm),
        whole_subject_sharp=near < plan.distance - radius and far > plan.distance + radius,
        longest_by_hand_s=o.longest_by_hand(), per_ring=plan.per_ring, step_deg=plan.step, elevations=plan.elevations,
        total=len(plan.stations), along=plan.along, across=plan.across, base=plan.base,
        precision_mm=min(plan.precision * 1000, 1e6), focal_px=p.camera.fx,
        storage_mb=len(plan.stations) * p.pixels_wide * p.pixels_high * BYTES_A_PIXEL / 1e6,
        histogram=[round(float(x), 5) for x in histogram], seen_by_three=plan.coverage.share_seen(plan.standin),
        stations=[
            StationOut(number=n, rotation=s.rotation.tolist(), center=s.center.tolist(), ring=s.ring)
            for n, s in zip(plan.numbers, plan.stations)
        ],
        findings=plan.findings,
    )  # fmt: skip


def patches_of(plan: Plan) -> PatchesOut:
    """The painted stand-in."""
    s, c = plan.standin, plan.coverage
    return PatchesOut(
        corners=np.round(s.vertices[s.faces].reshape(-1), 5).tolist(),
        count=c.count.tolist(),
        gsd_mm=[round(1000 * float(g), 4) if np.isfinite(g) else None for g in c.gsd],
        angle=np.round(c.angle, 1).tolist(),
        widest=np.round(c.widest, 1).tolist(),
        wanted=s.wanted.tolist(),
    )


class PlanFile(BaseModel):
    """``plan.json``: what was asked, and what came of it; schema in ``docs/formats.md``."""

    plan: int = 1
    unit: str = "m"
    request: PlanIn
    result: PlanOut
