"""Plans as files and forms: what is asked, and what comes of it, in plain figures."""

from __future__ import annotations

from collections import Counter
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from vast_quarry.core.plan import optics, planner, request
from vast_quarry.core.plan.advice import Skin, Way
from vast_quarry.core.plan.backdrop import propose_backdrop
from vast_quarry.core.plan.findings import best_aperture, blur_px, reach_radius, shutter_of
from vast_quarry.core.plan.light import sources, toward
from vast_quarry.core.plan.planner import Plan
from vast_quarry.core.plan.request import WIDEST_STEP, Hold, Kind, LightKind
from vast_quarry.core.plan.standin import Shape, StandIn
from vast_quarry.pipeline.sentence import Sentence


class Obstacle(BaseModel):
    """A box that is in the way, by two corners (m)."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    low: tuple[float, float, float]
    high: tuple[float, float, float]


class Lap(BaseModel):
    """A lap as edited by hand."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    rise_deg: float = Field(ge=-80, le=85)
    count: int = Field(ge=1, le=200)
    distance_m: float = Field(0.0, ge=0, le=10_000, description="0: as the plan has it")


class Light(BaseModel):
    """What lights the subject; turn 0 is before its front, growing anticlockwise seen from above."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    kind: LightKind = "overcast"
    turn_deg: float = Field(-40.0, ge=-360, le=360, description="Of the sun or the window")
    rise_deg: float = Field(45.0, ge=1, le=90, description="Of the sun")
    lamps: list[Literal["above", "sides", "back", "camera", "below"]] = ["above", "sides", "back", "camera"]
    lamp_m: float = Field(1.5, gt=0.01, le=1000, description="Distance of lamps or window")


class PlanIn(BaseModel):
    """What is to be photographed, with what, from where; lengths in metres unless said otherwise."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    kind: Kind = Field("object", description="What is wanted of it, or what kind of place it is")
    shape: Shape = "box"
    width: float = Field(0.34, gt=0.001, le=1000)
    depth: float = Field(0.21, gt=0.001, le=1000)
    height: float = Field(0.62, gt=0.001, le=1000)
    marked: list[tuple[float, float, float, float]] = Field(
        default_factory=list, max_length=200, description="Balls (x, y, z, radius) that mark the area"
    )
    mesh: str = Field("", max_length=400, description="Where a mesh that stands in comes from")
    pixels_wide: int = Field(1200, ge=64, le=40_000)
    pixels_high: int = Field(900, ge=64, le=40_000)
    sensor_mm: float = Field(17.3, gt=0.5, le=200)
    focal_mm: float = Field(20.0, gt=0.5, le=3000)
    f_number: float = Field(8.0, gt=0.5, le=128)
    detail_mm: float = Field(1.0, gt=0.001, le=1000, description="Smallest thing to be seen")
    by: Literal["frame", "detail"] = Field("frame", description="Distance from the frame or from the wanted detail")
    overlap: float = Field(0.75, ge=0.3, le=0.95, description="Shared with the next photo of a lap")
    across: float = Field(0.6, ge=0.2, le=0.95, description="Shared with the photo of the next lap")
    step_deg: float = Field(18.0, ge=3, le=WIDEST_STEP, description="Most degrees between neighbours of a lap")
    rings: int = Field(3, ge=0, le=8, description="Laps or strips; 0 lets the overlap across decide")
    laps: list[Lap] = Field(default_factory=list, max_length=30, description="Laps as edited by hand")
    start_deg: float = Field(0.0, ge=-360, le=360, description="Where laps begin: the plainest side")
    order: Literal["laps", "columns"] = "laps"
    transitions: bool = Field(True, description="Shots from lap to lap where laps share too little")
    establishing: int = Field(0, ge=0, le=48, description="Wider shots")
    close_ups: int = Field(0, ge=0, le=100, description="Nearer shots")
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
    light: Light = Field(default_factory=Light)
    second_light: bool = Field(False, description="Undersides get a second lighting")
    colors: list[str] = Field(
        default_factory=list, max_length=12, description="The subject's own colours, like #b4552f"
    )
    hold: Hold = "hand"
    shutter_s: float = Field(0.0, ge=0, le=60, description="0: from the light")
    iso: float = Field(100.0, ge=10, le=1_000_000)
    table_deg_s: float = Field(0.0, ge=0, le=360, description="Speed of a table that turns while it is shot")
    removed: list[int] = Field(default_factory=list, max_length=2000, description="Planned shots left out, by number")
    moved: list[tuple[int, float, float, float]] = Field(
        default_factory=list, max_length=2000, description="Planned shots that stand elsewhere: number and place"
    )
    extra: list[tuple[float, float, float]] = Field(
        default_factory=list, max_length=500, description="Further places to shoot from, at the middle of the subject"
    )

    def request(self) -> request.Request:
        """As the core takes it."""
        values = {n: getattr(self, n) for n in type(self).model_fields if n not in ("mesh", "colors")}
        values["obstacles"] = tuple(request.Obstacle(o.low, o.high) for o in self.obstacles)
        values["laps"] = tuple(request.Lap(w.rise_deg, w.count, w.distance_m) for w in self.laps)
        values["light"] = request.Light(**self.light.model_dump() | {"lamps": tuple(self.light.lamps)})
        lists = {n: tuple(getattr(self, n)) for n in ("removed", "extra", "moved", "marked")}
        return request.Request(**values | lists)

    def work_out(self, mesh: StandIn | None = None) -> planner.Plan:
        """The plan; ``mesh`` stands in where the shape is a mesh."""
        return planner.make_plan(self.request(), mesh=mesh)


class StationOut(BaseModel):
    """A planned camera; its number among those computed, -1 for a further shot."""

    number: int
    rotation: list[list[float]]
    center: list[float]
    ring: int
    role: str = "lap"


class LapOut(BaseModel):
    """A lap: elevation in degrees (of strips: height in m), photos, distance."""

    rise_deg: float
    count: int
    distance_m: float


class BackdropOut(BaseModel):
    """A proposed backdrop: its colour, how far that is from the subject's (CIE L*a*b*), how far behind."""

    name: str
    hex: str
    difference: float
    distance_m: float


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
    #: between what depth of field asks for and what diffraction allows
    best_f: float
    whole_subject_sharp: bool
    longest_by_hand_s: float
    per_ring: int
    step_deg: float
    elevations: list[float]
    laps: list[LapOut]
    #: shots by what they are for
    roles: dict[str, int]
    total: int
    along: float
    across: float
    base: float
    base_to_distance: float
    #: share of the frame's tighter side that the subject fills
    fills: float
    fov_deg: float
    shutter_s: float
    blur_px: float
    #: stops between the darkest and the brightest tenth, and share of the surface two stops or more below the median
    light_spread_stops: float
    dark: float
    backdrop: BackdropOut | None
    #: places of lamps, of the pieces of a window, or of the sun (brought near)
    lamps: list[list[float]]
    precision_mm: float
    focal_px: float
    storage_mb: float
    #: share of the wanted surface by number of photos that see it well: 0, 1, 2, ... 40 and more
    histogram: list[float]
    seen_by_three: float
    stations: list[StationOut]
    findings: list[Sentence]


class PatchesOut(BaseModel):
    """The stand-in's patches for painting: nine numbers of corners each, and what is known of each."""

    corners: list[float]
    count: list[int]
    gsd_mm: list[float | None]
    angle: list[float]
    widest: list[float]
    wanted: list[bool]
    #: stops above or below the median
    light: list[float]
    sharp: list[bool]


#: bytes of a pixel in a JPEG of good quality (common practice, no source)
BYTES_A_PIXEL = 0.45
#: last bar of the histogram: so many photos and more
MOST_COUNTED = 40


def told(plan: Plan, colors: list[str] | None = None) -> PlanOut:
    """A plan as told to the page and written to ``plan.json``."""
    p, o = plan.request, plan.request.optics(plan.distance)
    near, far = o.sharp_m()
    radius = reach_radius(p)
    area = np.where(plan.standin.wanted, plan.standin.areas, 0.0)
    histogram = np.bincount(
        np.minimum(plan.coverage.count, MOST_COUNTED), weights=area, minlength=MOST_COUNTED + 1
    ) / max(area.sum(), 1e-30)
    return PlanOut(
        distance=plan.distance, gsd_mm=o.gsd_mm, fine_enough=o.gsd_mm <= p.detail_mm / 2 * 1.001, near=near, far=min(far, 1e6),
        hyperfocal=optics.hyperfocal(p.focal_mm, p.f_number, o.circle_mm) / 1000, pixel_um=o.pitch_mm * 1000,
        airy_um=optics.airy_diameter(p.f_number) * 1000, diffraction_f=optics.diffraction_limit(o.pitch_mm), best_f=best_aperture(p, o),
        whole_subject_sharp=near < plan.distance - radius and far > plan.distance + radius,
        longest_by_hand_s=o.longest_by_hand(), per_ring=plan.per_ring, step_deg=plan.step, elevations=plan.elevations,
        laps=[LapOut(rise_deg=w.rise, count=w.count, distance_m=w.distance) for w in plan.laps],
        roles=dict(Counter(s.role for s in plan.stations)), base_to_distance=plan.base / plan.distance,
        fills=_fills(plan), fov_deg=optics.field_of_view(p.sensor_mm, p.focal_mm), shutter_s=shutter_of(p), blur_px=blur_px(p, o),
        light_spread_stops=plan.light.spread, dark=plan.light.dark, backdrop=_backdrop(plan, colors or []), lamps=_lamps(plan),
        total=len(plan.stations), along=plan.along, across=plan.across, base=plan.base,
        precision_mm=min(plan.precision * 1000, 1e6), focal_px=p.camera.fx,
        storage_mb=len(plan.stations) * p.pixels_wide * p.pixels_high * BYTES_A_PIXEL / 1e6,
        histogram=[round(float(x), 5) for x in histogram], seen_by_three=plan.coverage.share_seen(plan.standin),
        stations=[
            StationOut(number=n, rotation=s.rotation.tolist(), center=s.center.tolist(), ring=s.ring, role=s.role)
            for n, s in zip(plan.numbers, plan.stations)
        ],
        findings=plan.findings,
    )  # fmt: skip


def _fills(plan: Plan) -> float:
    """Share of the frame's tighter side that the subject fills, seen from the first lap."""
    p, o = plan.request, plan.request.optics(plan.distance)
    w, h = o.frame_m
    across = p.width if p.in_strips else float(np.hypot(p.width, p.depth))
    return min(9.99, max(across / w, p.height / h))


def _lamps(plan: Plan) -> list[list[float]]:
    """Where the light stands; the sun is brought near."""
    middle, light = plan.standin.middle, plan.request.light
    places = sources(light, middle, plan.distance)
    if light.kind == "sun":
        places = middle + 1.6 * plan.distance * toward(light.turn_deg, light.rise_deg)[None]
    return [[round(float(x), 4) for x in place] for place in places]


def _backdrop(plan: Plan, colors: list[str]) -> BackdropOut | None:
    """A proposal where the subject turns before the camera, or its colours are known."""
    p = plan.request
    if p.way != "turntable" and not colors:
        return None
    b = propose_backdrop(colors, float(np.hypot(p.width, p.depth)), p.height)
    return BackdropOut(name=b.name, hex=b.hex, difference=round(b.difference, 1), distance_m=b.distance_m)


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
        light=np.round(plan.light.stops, 2).tolist(),
        sharp=c.sharp.tolist(),
    )


class PlanFile(BaseModel):
    """``plan.json``: what was asked, and what came of it; schema in ``docs/formats.md``."""

    plan: int = 1
    unit: str = "m"
    request: PlanIn
    result: PlanOut


def presets(plan: PlanIn) -> dict[str, dict[str, Any]]:
    """Settings of later layers that follow from what a plan knows of its subject; a usual plan presets nothing.

    On a turntable before a still backdrop no ground is looked for; a plain skin needs more and fainter features; shiny and
    transparent ones show places that are not there, so more photos have to agree on a point; hair and thin things are
    seen by few; of a place all is wanted, the ground too.
    """
    out: dict[str, dict[str, Any]] = {}
    if plan.way == "turntable" and plan.kind in ("object", "front", "area"):
        out["cameras"] = {"ground": False}
    if plan.skin == "plain":
        out.setdefault("cameras", {}).update(features=16_000, ratio=0.9)
    if plan.skin in ("shiny", "transparent"):
        out["points"] = {"least_views": 4}
    if plan.skin == "hairy":
        out["points"] = {"least_views": 2}
    if plan.skin == "living":
        out["texture"] = {"even_out": True}
    kinds = {"wall": "facade", "ground": "strip", "corner": "place", "room": "interior"}
    if plan.kind in kinds:
        out.setdefault("cameras", {})["kind"] = kinds[plan.kind]
    return out
