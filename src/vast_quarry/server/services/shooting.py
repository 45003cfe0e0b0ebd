"""Shooting a plan with devices: turn, wait, trigger, fetch; pause, and go on where it was after a failure or a kill."""

from __future__ import annotations

import io
import re
import threading
from contextlib import nullcontext
from pathlib import Path
from typing import Any, Literal, Protocol

from PIL import Image
from pydantic import BaseModel, Field

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write, read_json
from vast_quarry.core.formats.documents import changed
from vast_quarry.core.plan.findings import shutter_of
from vast_quarry.core.plan.optics import focal_pixels
from vast_quarry.core.plan.planner import Plan
from vast_quarry.core.plan.rings import Station
from vast_quarry.core.progress import Cancelled
from vast_quarry.core.words import say
from vast_quarry.pipeline.apart import apart
from vast_quarry.pipeline.plan import PlanIn
from vast_quarry.server.services.equipment import Equipment, at_front, shipped_rig
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.plan import mesh_of

#: where a project keeps the planned positions of its photos
SHOTS = "shots.json"
#: the simulated camera's widest picture
WIDEST = 8000


class FailureIn(BaseModel):
    """What the practice rig lets fail, after so many shots that go well."""

    device: Literal["camera", "turntable", "lamps"]
    kind: Literal["silent", "error", "card full", "battery empty", "out of focus", "stall", "off"]
    after: int = Field(0, ge=0)
    times: int = Field(1, ge=1, le=1000)


class ShootIn(BaseModel):
    """What is to be photographed, as planned, and with which equipment."""

    scene: Literal["milestone", "finial", "well-head", "yard"] = "milestone"
    seed: int = Field(1, ge=0, le=10**6)
    plan: PlanIn = Field(default_factory=PlanIn)
    rig: str = Field("", max_length=200, description="Address of the equipment; empty: the practice rig that ships")
    patience_s: float = Field(60.0, gt=0, le=600, description="Time the camera has for a photo")
    failures: list[FailureIn] = Field(default_factory=list, max_length=20, description="Practice rig only")


class ShootReporter(Protocol):
    """What a shoot tells, and how it is paused."""

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None:
        """A step begins."""

    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None:
        """Progress."""

    def say(self, text: str) -> None:
        """A finding."""

    def pause(self, message: str) -> None:
        """Pause, with what went wrong."""

    def paused(self) -> bool:
        """Whether somebody, or a failure, has paused the job."""


def focal35_of(p: PlanIn) -> float:
    """35 mm equivalent (by the diagonal) of a plan's lens."""
    focal = p.focal_mm / p.sensor_mm * p.pixels_wide
    return focal / focal_pixels(1.0, p.pixels_wide, p.pixels_high)


def shoot_project(
    folders: Folders, job: int, params: dict[str, Any], reporter: ShootReporter, cancelled: threading.Event
) -> int:
    """Photograph a scene into a project, shot by shot; what was shot stays, whatever happens. How many shots it has."""
    wanted = ShootIn.model_validate(params)
    p = wanted.plan
    plan = p.work_out(mesh_of(folders, p)[0])
    if p.pixels_wide > WIDEST or p.pixels_high > WIDEST:
        raise PlainError(
            say("The practice rig makes photos of up to {most} pixels a side.", most=WIDEST),
            "Plan with fewer pixels.",
        )
    reporter.begin("plan", "Shooting")
    folders.make()
    ours = shipped_rig(wanted.scene, p.pixels_wide, p.pixels_high, focal35_of(p), wanted.seed)
    reporter.stage("plan", "Setting up", 0, 1)
    with nullcontext(wanted.rig) if wanted.rig else ours as address:
        session = _Session(folders, job, wanted, plan, Equipment(address, wanted.patience_s), reporter, cancelled)
        return session.run()


class _Session:
    """One shoot."""

    def __init__(
        self, folders: Folders, job: int, wanted: ShootIn, plan: Plan, devices: Equipment, reporter: ShootReporter,
        cancelled: threading.Event,
    ) -> None:  # fmt: skip
        self.folders, self.job, self.wanted, self.plan = folders, job, wanted, plan
        self.devices, self.reporter, self.cancelled = devices, reporter, cancelled
        self.turntable = self.ours = False
        self.scene: str = wanted.scene

    def look(self) -> None:
        """Stop when it is wanted."""
        if self.cancelled.is_set():
            raise Cancelled

    def run(self) -> int:
        """All shots that are not there yet; how many there are then."""
        self._until_it_goes(self._set_up)
        below = [k for k, s in enumerate(self.plan.stations) if s.role == "underside"]
        if below:
            self.reporter.say(
                say(
                    "{count, plural, one {# shot of the underside is} other {# shots of the underside are}} left for the subject turned over.",
                    count=len(below),
                )
            )
        stations = [(k, s) for k, s in enumerate(self.plan.stations) if s.role != "underside"]
        known = shots_of(self.folders)
        mine = {int(v["shot"]): path for path, v in known.items() if v.get("shoot") == self.job}
        before = next(iter(mine.values())).split(self.scene)[0] if mine else _free_prefix(self.folders, self.scene)
        for done, (k, station) in enumerate(stations):
            self.reporter.stage("plan", "Shooting", done, len(stations))
            if k not in mine:
                name = f"{before}{self.scene}_{k + 1:03d}.jpg"
                self._until_it_goes(lambda k=k, s=station, n=name: self._shot(k, s, n))  # type: ignore[misc]
        self.reporter.stage("plan", "Shooting", len(stations), len(stations))
        return len(stations)

    def _set_up(self) -> None:
        """Ready the devices."""
        about = self.devices.wait_ready(self.look)
        self.turntable = bool(about["turntable"])
        # a word of the device's that becomes part of names
        self.scene = re.sub(r"[^\w-]", "", str(about["scene"]))[:40] or "subject"
        p = self.plan.request
        if not self.wanted.rig:
            self.ours = True
            self.devices.fail([f.model_dump() for f in self.wanted.failures])
            # the practice rig is lit for f/8, 1/125 s, ISO 200: it is exposed right whatever the planned light
            self.devices.set_camera(p.f_number, 200 * (p.f_number / 8) ** 2, 1 / 125)
        else:
            self.devices.set_camera(p.f_number, p.iso, shutter_of(p))

    def _shot(self, k: int, station: Station, name: str) -> None:
        """One shot, with everything that belongs to it on disk before it counts."""
        where = station
        if self.turntable:
            degrees, where = at_front(station)
            self.devices.turn(degrees, self.look)
        self.devices.place(where)
        number, photo = self.devices.photograph(self.look)
        if not apart(_is_photo)(photo):
            raise PlainError("The camera sent what is no photo.", "Look at the camera, then press Resume.")
        if self.turntable and self.ours:  # a turntable needs its masks; the rig knows them
            with atomic_write(self.folders.masks / f"{Path(name).stem}.png") as f:
                f.write(self.devices.mask(number))
        with changed(self.folders.root / SHOTS) as known:
            with atomic_write(self.folders.photos / name, durable=True) as f:
                f.write(photo)
            known[name] = {
                "center": station.center.tolist(), "rotation": station.rotation.tolist(), "role": station.role,
                "lap": station.ring, "shot": k, "shoot": self.job,
            }  # fmt: skip
        self.devices.forget(number)

    def _until_it_goes(self, what: Any) -> None:
        """Do something; when a device fails, wait for somebody to mend it and press Resume."""
        while True:
            self._wait_while_paused()
            try:
                what()
                return
            except PlainError as error:
                self.reporter.pause(error.said)

    def _wait_while_paused(self) -> None:
        while self.reporter.paused():
            self.look()
            self.cancelled.wait(0.25)
        self.look()


def _is_photo(body: bytes) -> bool:
    try:
        with Image.open(io.BytesIO(body)) as image:
            return image.width * image.height > 0
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return False


def shots_of(folders: Folders) -> dict[str, Any]:
    """Planned positions of photos that were shot to a plan, by path."""
    return dict(read_json(folders.root / SHOTS))


def _free_prefix(folders: Folders, scene: str) -> str:
    """What goes before the names of a further shoot, so that no photo is overwritten."""
    k = 1
    while list(folders.photos.glob(f"{f'lap{k}_' if k > 1 else ''}{scene}_*")):
        k += 1
    return f"lap{k}_" if k > 1 else ""
