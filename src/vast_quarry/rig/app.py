"""The rig's HTTP interface; described in ``docs/rig.md``."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from fastapi import FastAPI, Request, Response
from fastapi.responses import JSONResponse
from pydantic import BaseModel, ConfigDict, Field

from vast_quarry.core.rig.shoot import ShootSettings
from vast_quarry.rig.devices import DeviceError, Failure, Rig

Vector = tuple[float, float, float]


class About(BaseModel):
    """What there is."""

    rig: int = 1
    scene: str
    ready: bool
    turntable: bool
    width: int
    height: int


class CameraState(BaseModel):
    """The camera."""

    f_number: float
    iso: float
    shutter_s: float
    focus_error: float
    battery: float
    room: int
    pictures: list[int]


class CameraIn(BaseModel):
    """Settings of the camera; what is missing stays."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    f_number: float | None = Field(None, gt=0.5, le=64)
    iso: float | None = Field(None, ge=25, le=204_800)
    shutter_s: float | None = Field(None, gt=1e-5, le=60)
    focus_error: float | None = Field(None, ge=-0.5, le=0.5, description="Share of the distance")
    battery: float | None = Field(None, ge=0, le=1)


class StandIn(BaseModel):
    """Where the camera stands: place in metres, rotation room to camera (x right, y down, z forward)."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    center: Vector
    rotation: tuple[Vector, Vector, Vector]


class TableState(BaseModel):
    """The turntable (degrees)."""

    angle_deg: float
    goal_deg: float
    moving: bool
    stalled: bool
    speed_deg_s: float


class TurnIn(BaseModel):
    """Where to turn, and how fast."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    to_deg: float = Field(ge=-3600, le=3600)
    speed_deg_s: float | None = Field(None, gt=0, le=3600)


class LampsIn(BaseModel):
    """Level of all lamps; one is as planned."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    level: float = Field(ge=0, le=8)


class FailureIn(BaseModel):
    """A failure on demand."""

    model_config = ConfigDict(extra="forbid")
    device: Literal["camera", "turntable", "lamps"]
    kind: Literal["silent", "error", "card full", "battery empty", "out of focus", "stall", "off"]
    after: int = Field(0, ge=0, description="Photos (or turns) that still go well")
    times: int = Field(1, ge=1, le=1000)


class Taken(BaseModel):
    """A photo was taken."""

    number: int


def make_rig_app(settings: ShootSettings) -> FastAPI:
    """The rig with one scene before its camera."""
    app = FastAPI(title="Practice rig", version="1", docs_url=None, redoc_url=None)
    rig = Rig(settings)
    app.state.rig = rig

    @app.exception_handler(DeviceError)
    def failed(request: Request, error: DeviceError) -> JSONResponse:
        """A device that cannot."""
        return JSONResponse({"detail": str(error)}, status_code=409)

    @app.get("/")
    def about() -> About:
        """What there is, and whether the scene is built."""
        if rig.broken:
            raise DeviceError(f"The scene could not be built ({rig.broken}).")
        turns = settings.scene == "finial"
        return About(
            scene=settings.scene, ready=rig.ready, turntable=turns, width=settings.width, height=settings.height
        )

    @app.get("/camera")
    def camera() -> CameraState:
        """Settings, battery, what is on the card."""
        c = rig.camera
        return CameraState(
            f_number=c.f_number, iso=c.iso, shutter_s=c.shutter_s, focus_error=c.focus_error, battery=c.battery,
            room=c.room - len(c.pictures), pictures=sorted(c.pictures),
        )  # fmt: skip

    @app.put("/camera")
    def set_camera(body: CameraIn) -> CameraState:
        """Set the camera."""
        for name, value in body.model_dump(exclude_none=True).items():
            setattr(rig.camera, name, value)
        return camera()

    @app.post("/camera/trigger", status_code=201)
    def trigger() -> Taken:
        """Take a photo; answers when it is on the card."""
        return Taken(number=rig.trigger())

    @app.get("/camera/pictures/{number}", response_class=Response)
    def picture(number: int) -> Response:
        """A photo from the card (JPEG)."""
        if number not in rig.camera.pictures:
            raise DeviceError(f"There is no picture {number} on the card.")
        return Response(rig.camera.pictures[number][0], media_type="image/jpeg")

    @app.get("/camera/pictures/{number}/mask", response_class=Response)
    def mask(number: int) -> Response:
        """What no real camera knows: the exact mask of a photo (PNG)."""
        if number not in rig.camera.pictures:
            raise DeviceError(f"There is no picture {number} on the card.")
        return Response(rig.camera.pictures[number][1], media_type="image/png")

    @app.delete("/camera/pictures/{number}", status_code=204)
    def forget(number: int) -> None:
        """Free the room of a photo."""
        rig.camera.pictures.pop(number, None)

    @app.put("/stand", status_code=204)
    def stand(body: StandIn) -> None:
        """Move the camera."""
        rig.place(np.array(body.center), np.array(body.rotation))

    @app.get("/turntable")
    def table() -> TableState:
        """Where the turntable stands."""
        t = rig.table
        return TableState(
            angle_deg=rig.angle(), goal_deg=t.goal % 360, moving=rig.moving(), stalled=t.stalled and not rig.moving(),
            speed_deg_s=t.speed,
        )  # fmt: skip

    @app.post("/turntable/turn", status_code=202)
    def turn(body: TurnIn) -> TableState:
        """Begin to turn; answers at once."""
        if body.speed_deg_s is not None:
            rig.table.speed = body.speed_deg_s
        rig.turn(body.to_deg)
        return table()

    @app.put("/lamps", status_code=204)
    def lamps(body: LampsIn) -> None:
        """Dim the lamps."""
        rig.lamps = body.level

    @app.put("/failures", status_code=204)
    def failures(body: Annotated[list[FailureIn], Field(max_length=100)]) -> None:
        """Failures on demand, in place of those before."""
        rig.failures = [Failure(**f.model_dump()) for f in body]

    return app
