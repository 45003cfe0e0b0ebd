"""Simulated devices: what a camera, its stand, a motorised turntable and lamps do, and how they fail on demand.

The turntable turns the subject anticlockwise seen from above; the stand holds the camera in the room. Where a scene has no
turntable the stand is moved about the subject instead.
"""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.rig.shoot import Exposure, Set, ShootSettings, jpeg_photo, png_mask

Array = NDArray[np.float64]

#: what fails, and how
FAILURES = {
    "camera": ("silent", "error", "card full", "battery empty", "out of focus"),
    "turntable": ("stall",),
    "lamps": ("off",),
}
#: share of a full battery that a photo takes
DRAIN = 0.002
#: photos a card holds
CARD = 900
#: seconds that a camera which does not answer keeps silent
SILENCE = 3600.0


class DeviceError(PlainError):
    """A device could not do what was asked of it."""


@dataclass
class Failure:
    """A failure on demand: after so many photos (or turns), so many times."""

    device: str
    kind: str
    after: int = 0
    times: int = 1


@dataclass
class Camera:
    """The camera: how it is set, what it holds."""

    f_number: float = 8.0
    iso: float = 200.0
    shutter_s: float = 1 / 125
    battery: float = 1.0
    focus_error: float = 0.0
    room: int = CARD
    pictures: dict[int, tuple[bytes, bytes]] = field(default_factory=dict)
    taken: int = 0


@dataclass
class Turntable:
    """A motorised turntable: where it stands, where it is to go, how fast (degrees, degrees a second)."""

    angle: float = 0.0
    goal: float = 0.0
    speed: float = 720.0
    began: float = 0.0
    start: float = 0.0
    stalled: bool = False
    turns: int = 0


class Rig:
    """All devices about one scene; the scene is built in the background."""

    def __init__(self, settings: ShootSettings) -> None:
        self.settings = settings
        self.camera, self.table = Camera(), Turntable()
        self.lamps = 1.0
        self.stand = Station(np.eye(3), np.array([0.0, -1.5, 0.5]), 0)
        self.failures: list[Failure] = []
        self._lock = threading.Lock()
        self._set: Set | None = None
        self.broken = ""
        self._builder = threading.Thread(target=self._build, daemon=True)
        self._builder.start()

    def _build(self) -> None:
        try:
            self._set = Set(self.settings)
        except ValueError as error:
            self.broken = str(error)

    @property
    def ready(self) -> bool:
        """Whether the scene is built."""
        return self._set is not None

    def wait(self) -> Set:
        """The scene, when it is built."""
        self._builder.join()
        if self._set is None:
            raise DeviceError(f"The scene could not be built ({self.broken}).")
        return self._set

    def _due(self, device: str, count: int) -> str | None:
        """The failure that is due now, which is used up a little."""
        for f in self.failures:
            if f.device == device and f.times > 0 and count >= f.after:
                f.times -= 1
                return f.kind
        return None

    def place(self, center: Array, rotation: Array) -> None:
        """Move the stand: place (3,) in metres, rotation (3, 3) room to camera."""
        if not (np.isfinite(center).all() and np.allclose(rotation @ rotation.T, np.eye(3), atol=1e-3)):
            raise DeviceError("The stand cannot go there.", "Send a place in metres and a rotation.")
        self.stand = Station(rotation, center, 0)

    def turn(self, goal: float) -> None:
        """Begin to turn to an angle, the short way."""
        t = self.table
        t.angle = self.angle()
        away = (goal - t.angle + 180) % 360 - 180
        t.stalled = False
        if self._due("turntable", t.turns) == "stall":
            goal, t.stalled = t.angle + away / 2, True
        else:
            goal = t.angle + away
        t.start, t.goal, t.began = t.angle, goal, time.monotonic()
        t.turns += 1

    def angle(self) -> float:
        """Where the turntable stands now (degrees)."""
        t = self.table
        way = t.goal - t.start
        gone = min(abs(way), t.speed * (time.monotonic() - t.began))
        return (t.start + np.copysign(gone, way)) % 360

    def moving(self) -> bool:
        """Whether the turntable is on its way."""
        t = self.table
        return t.speed * (time.monotonic() - t.began) < abs(t.goal - t.start)

    def trigger(self) -> int:
        """Take a photo; its number comes back.

        Raises
        ------
        DeviceError
            When the camera cannot.
        """
        studio, c = self.wait(), self.camera
        with self._lock:
            kind = self._due("camera", c.taken)
            if kind == "silent":
                time.sleep(SILENCE)
            if kind == "card full" or len(c.pictures) >= c.room:
                raise DeviceError("The camera's card is full.", "Free some room on it.")
            if kind == "battery empty" or c.battery <= 0:
                raise DeviceError("The camera's battery is empty.", "Change it.")
            if kind == "error":
                raise DeviceError("The camera reports a fault.", "Switch it off and on again.")
            light = 0.02 if self._due("lamps", c.taken) == "off" else self.lamps
            error = 0.12 if kind == "out of focus" else c.focus_error
            photo, cover = studio.take(self._seen(), c.taken, error, light * self._exposure())
            c.taken += 1
            c.battery = max(0.0, c.battery - DRAIN)
            exposure = Exposure(c.shutter_s, c.f_number, c.iso)
            c.pictures[c.taken] = jpeg_photo(photo, self.settings, c.taken - 1, exposure), png_mask(cover)
            return c.taken

    def _exposure(self) -> float:
        """Exposure against the setting that suits the rig's light (f/8, 1/125 s, ISO 200)."""
        c = self.camera
        return (8.0 / c.f_number) ** 2 * (c.shutter_s * 125) * (c.iso / 200)

    def _seen(self) -> Station:
        """The stand as the subject sees it: turned back by what the table has turned."""
        a = np.radians(self.angle())
        turn = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1.0]])
        return Station(self.stand.rotation @ turn, turn.T @ self.stand.center, 0)
