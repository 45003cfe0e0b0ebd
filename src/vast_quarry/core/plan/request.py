"""What is asked of a plan: subject, reach, light, camera and wish. Lengths in metres unless said otherwise."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from vast_quarry.core.camera import Camera
from vast_quarry.core.plan.advice import Skin, Way
from vast_quarry.core.plan.optics import Optics
from vast_quarry.core.plan.standin import Shape

Kind = Literal["object", "front", "area", "wall", "ground", "corner", "room", "flown"]
LightKind = Literal["overcast", "sun", "lamps", "window"]
Hold = Literal["hand", "tripod", "table"]

#: kinds that are shot in strips rather than in laps, and the stand-in each has
IN_STRIPS: dict[str, Shape] = {"wall": "panel", "ground": "ground", "corner": "corner", "room": "room"}
#: neighbours of a ring are never further apart (degrees)
WIDEST_STEP = 30.0
#: lamps of a dome: where they stand, as (turn, rise) in degrees; turn 0 is before the front
DOME: dict[str, tuple[tuple[float, float], ...]] = {
    "above": ((0.0, 80.0),),
    "sides": ((-65.0, 30.0), (65.0, 30.0)),
    "back": ((180.0, 35.0),),
    "camera": ((0.0, 15.0),),
    "below": ((-90.0, -20.0), (90.0, -20.0)),
}


@dataclass(frozen=True)
class Obstacle:
    """A box that is in the way, by two corners."""

    low: tuple[float, float, float]
    high: tuple[float, float, float]


@dataclass(frozen=True)
class Lap:
    """A lap as wished: elevation in degrees, photos, and distance (0: as the plan has it)."""

    rise_deg: float
    count: int
    distance_m: float = 0.0


@dataclass(frozen=True)
class Light:
    """What lights the subject.

    Attributes
    ----------
    kind : str
        Overcast sky, sun, lamps, or one window.
    turn_deg, rise_deg : float
        Where the sun or the window stands: turn 0 is before the front, growing anticlockwise seen from above.
    lamps : tuple of str
        Places of :data:`DOME` where like lamps stand.
    lamp_m : float
        Distance of lamps or window.
    """

    kind: LightKind = "overcast"
    turn_deg: float = -40.0
    rise_deg: float = 45.0
    lamps: tuple[str, ...] = ("above", "sides", "back", "camera")
    lamp_m: float = 1.5


@dataclass(frozen=True)
class Request:
    """What is to be photographed, with what, from where; lengths in metres unless said otherwise.

    Attributes
    ----------
    kind : str
        An object all round, its front, a marked area of it; a wall seen from -y, a strip of ground seen from above, the
        corner of two walls (left and back) with its ground, a room from inside, something flown round.
    marked : tuple of (x, y, z, radius)
        Balls that mark the area.
    by : str
        Distance from the frame (the subject fills it) or from the wanted detail (closer, in several rows).
    overlap, across : float
        What neighbouring photos of a lap, and neighbouring laps, are to share.
    step_deg : float
        Most degrees between neighbours of a lap.
    rings : int
        Laps or strips; 0 lets the overlap across decide.
    laps : tuple of Lap
        Laps as edited by hand, in place of those worked out.
    start_deg : float
        Where laps begin: the plainest side.
    order : str
        Lap by lap, or column by column (low, middle, high from each standing place).
    transitions, establishing, close_ups
        Shots that lead from lap to lap where laps share too little; wider shots; nearer ones.
    lowest_m, highest_m, from_deg, to_deg, least_m, greatest_m, obstacles
        Reach: heights a camera can be held at, the way round, distances, boxes that are in the way.
    skin, way, holes, recesses, underside, turnable
        What is known of the subject; an underside that is wanted gets a lap of its own.
    light, second_light
        What lights it; whether undersides get a second lighting.
    hold, shutter_s, iso, table_deg_s
        How the camera is held (or the table turns), shutter time (0: from the light), ISO.
    removed : tuple of int
        Numbers of planned shots that are left out.
    moved : tuple of (number, x, y, z)
        Planned shots that stand elsewhere.
    extra : tuple of (float, float, float)
        Further places to shoot from, at the middle of the subject.
    """

    kind: Kind = "object"
    shape: Shape = "box"
    width: float = 0.34
    depth: float = 0.21
    height: float = 0.62
    marked: tuple[tuple[float, float, float, float], ...] = ()
    pixels_wide: int = 1200
    pixels_high: int = 900
    sensor_mm: float = 17.3
    focal_mm: float = 20.0
    f_number: float = 8.0
    detail_mm: float = 1.0
    by: Literal["frame", "detail"] = "frame"
    overlap: float = 0.75
    across: float = 0.6
    step_deg: float = 18.0
    rings: int = 3
    laps: tuple[Lap, ...] = ()
    start_deg: float = 0.0
    order: Literal["laps", "columns"] = "laps"
    transitions: bool = True
    establishing: int = 0
    close_ups: int = 0
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
    light: Light = Light()
    second_light: bool = False
    hold: Hold = "hand"
    shutter_s: float = 0.0
    iso: float = 100.0
    table_deg_s: float = 0.0
    removed: tuple[int, ...] = ()
    moved: tuple[tuple[int, float, float, float], ...] = ()
    extra: tuple[tuple[float, float, float], ...] = ()

    @property
    def camera(self) -> Camera:
        """The planned camera, without distortion."""
        return Camera.simple(self.pixels_wide, self.pixels_high, self.focal_mm / self.sensor_mm * self.pixels_wide)

    @property
    def arc(self) -> float:
        """The way round in degrees."""
        arc = self.to_deg - self.from_deg
        return 360.0 if arc <= 0 or arc >= 360 else arc

    @property
    def whole(self) -> bool:
        """Whether there is a way all round."""
        return self.arc >= 360

    @property
    def in_strips(self) -> bool:
        """Whether it is shot in strips rather than in laps."""
        return self.kind in IN_STRIPS

    @property
    def begin_deg(self) -> float:
        """Where laps begin."""
        return self.start_deg if self.whole else self.from_deg

    def optics(self, distance: float) -> Optics:
        """The lens focused at a distance."""
        sensor = (self.sensor_mm, self.sensor_mm * self.pixels_high / self.pixels_wide)
        return Optics(sensor, (self.pixels_wide, self.pixels_high), self.focal_mm, self.f_number, distance)

    def blocked(self, center: tuple[float, float, float] | list[float]) -> bool:
        """Whether a place lies inside an obstacle."""
        return any(all(o.low[k] <= center[k] <= o.high[k] for k in range(3)) for o in self.obstacles)
