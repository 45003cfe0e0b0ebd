"""How the photos of a project are evened out when they are read."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response
from pydantic import BaseModel, Field

from vast_quarry.core.words import Said
from vast_quarry.pipeline.steps.photos import ToneSettings
from vast_quarry.server import reading, strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.services import history, tones
from vast_quarry.server.services.folders import get_project

router = strict.router(tag="tones")
PHOTOS = "/api/v1/projects/{project_id}/photos"
Side = Annotated[int, Query(ge=32, le=2400)]


class ToneIn(BaseModel):
    """How photos are to be read: those given, else all of them alike."""

    tone: ToneSettings
    paths: list[str] | None = Field(None, max_length=20_000)


class Preset(BaseModel):
    """Settings that are kept under a name."""

    name: str
    tone: ToneSettings


@router.get(f"{PHOTOS}/tone")
def tone(project_id: int, session: Db, f: Files) -> tones.ToneOut:
    """How photos are changed when they are read."""
    return tones.tone_of(get_project(session, project_id), f)


@router.put(f"{PHOTOS}/tone")
def change_tone(project_id: int, body: ToneIn, session: Db, f: Files) -> tones.ToneOut:
    """Change how photos are read."""
    with history.recorded(session, project_id, f, Said("Tone of photos")) as project:
        tones.set_tone(project, body.tone, body.paths)
    return tones.tone_of(project, f)


@router.post(f"{PHOTOS}/even")
def even(project_id: int, session: Db, f: Files, on: bool = True) -> tones.ToneOut:
    """Pull exposure and white balance together, or let them be as they are."""
    with history.recorded(session, project_id, f, Said("Evening out")) as project:
        tones.even_out(project, f, on)
    return tones.tone_of(project, f)


@router.post(f"{PHOTOS}/falloff")
def falloff(project_id: int, by: tones.FalloffFrom, session: Db, f: Files) -> tones.ToneOut:
    """Give back what lenses take from the corners, or leave them as they are."""
    with history.recorded(session, project_id, f, Said("Dark corners")) as project:
        tones.give_back_corners(project, f, by)
    return tones.tone_of(project, f)


@router.get(f"{PHOTOS}/toned", response_class=Response)
@reading.pictures
def toned(project_id: int, path: str, session: Db, f: Files, side: Side = 1200) -> Response:
    """A photo as it will be read."""
    picture = tones.toned_picture(get_project(session, project_id), f, path, side)
    return Response(picture, media_type="image/jpeg", headers={"Cache-Control": "no-store"})


@router.get(f"{PHOTOS}/histogram")
@reading.pictures
def histogram(project_id: int, path: str, session: Db, f: Files) -> tones.Histogram:
    """Levels of a photo before and after."""
    return tones.histogram(get_project(session, project_id), f, path)


@router.get("/api/v1/tone-presets")
def presets(session: Db) -> list[Preset]:
    """Settings that were kept, by name."""
    return [Preset(name=p.name, tone=ToneSettings.model_validate(p.tone)) for p in tones.presets(session)]


@router.put("/api/v1/tone-presets/{name}", status_code=204)
def keep_preset(name: str, body: ToneSettings, session: Db) -> None:
    """Keep settings under a name."""
    tones.keep_preset(session, name, body)


@router.delete("/api/v1/tone-presets/{name}", status_code=204)
def forget_preset(name: str, session: Db) -> None:
    """Forget kept settings."""
    tones.forget_preset(session, name)
