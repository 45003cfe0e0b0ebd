"""Photos of a project."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Form, Query, Request, Response, UploadFile
from fastapi.responses import FileResponse, StreamingResponse
from pydantic import BaseModel, Field

from vast_quarry.core.words import say
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.server import reading, strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.routers.jobs import JobOut
from vast_quarry.server.services import (
    bringing,
    depths,
    history,
    jobs,
    judging,
    pictures,
    sets,
    tiles,
    trash,
    zipping,
)
from vast_quarry.server.services.ahead import Ahead
from vast_quarry.server.services.folders import editing, get_project

router = strict.router("/api/v1/projects/{project_id}/photos", "photos")
Side = Annotated[int, Query(ge=32, le=2400)]
Place = Annotated[int, Query(ge=0, le=1000)]
Level = Annotated[int, Query(ge=0, le=255)]
Share = Annotated[float, Query(ge=0, le=1, description="Place in the photo, as a share of its side")]
CACHED = {"Cache-Control": "private, max-age=86400"}


class FromPath(BaseModel):
    """A folder on this machine."""

    path: str = Field(min_length=1)
    copy_files: bool = Field(True, description="Copy them; else they stay where they are and are referred to")


class Keep(BaseModel):
    """Photos to keep or to leave out."""

    paths: list[str]
    kept: bool
    decided: list[str] = Field(default_factory=list, description="Photos whose proposals are thereby dealt with")


class SetIn(BaseModel):
    """Photos that were shot together, and what they are called; an empty name undoes it."""

    paths: list[str] = Field(min_length=1, max_length=20_000)
    name: str = Field("", max_length=200)


class PathsIn(BaseModel):
    """Some photos."""

    paths: list[str] = Field(min_length=1, max_length=20_000)


class FocalIn(PathsIn):
    """Focal length of some photos, as it would be on a 35 mm camera (mm)."""

    focal_as_35_mm: float | None = Field(None, gt=0, le=3000, allow_inf_nan=False)


class Color(BaseModel):
    """A colour."""

    rgb: tuple[int, int, int]


def background(request: Request) -> Ahead:
    """Who makes pictures before they are asked for."""
    ahead: Ahead = request.app.state.ahead
    return ahead


Background = Annotated[Ahead, Depends(background)]


@router.get("")
def list_photos(
    project_id: int,
    session: Db,
    f: Files,
    ahead: Background,
    after: Annotated[str, Query(description="Only photos that come after this one")] = "",
    limit: Annotated[int | None, Query(ge=1, le=20_000, description="At most so many; else all")] = None,
) -> list[pictures.PhotoOut]:
    """All photos, or a page of them."""
    listed = pictures.list_photos(get_project(session, project_id), f)
    begin = next((k + 1 for k, p in enumerate(listed) if p.path == after), 0)
    listed = listed[begin : None if limit is None else begin + limit]
    ahead.thumbnails(f, [p.path for p in listed if not p.problem])
    return listed


@router.post("", status_code=201)
def upload(project_id: int, files: list[UploadFile], session: Db, f: Files) -> bringing.Brought:
    """Take in files: each is taken, known already, or refused with the reason, and the others go on."""
    get_project(session, project_id)
    f.make()
    return bringing.take_all(f, [(file.filename or "photo", file.file) for file in files])


@router.post("/from-path", status_code=202)
def from_path(project_id: int, body: FromPath, session: Db) -> JobOut:
    """Bring in the photos of a folder on this machine, as a job."""
    get_project(session, project_id)
    params = {"path": str(bringing.folder_given(body.path)), "copy_files": body.copy_files}
    return JobOut.of(jobs.add_job(session, project_id, "bring", params))


@router.post("/point-again")
def point_again(project_id: int, body: FromPath, session: Db, f: Files) -> int:
    """Point to photos that are no longer where they were; returns how many were found."""
    get_project(session, project_id)
    return bringing.point_again(f, body.path)


@router.post("/masks", status_code=201)
def upload_masks(project_id: int, files: list[UploadFile], session: Db, f: Files) -> bringing.Brought:
    """Take in mask files named like their photos."""
    get_project(session, project_id)
    f.make()
    return bringing.take_masks(f, [(file.filename or "mask", file.file) for file in files])


@router.post("/judge", status_code=202)
def judge(project_id: int, session: Db) -> JobOut:
    """Judge all photos, as a job."""
    get_project(session, project_id)
    return JobOut.of(jobs.add_job(session, project_id, "judge", {}))


@router.get("/judge")
def judged_findings(project_id: int, session: Db, f: Files) -> list[Sentence]:
    """What judging found about all photos together."""
    get_project(session, project_id)
    return judging.judged(f)[1]


@router.put("/set", status_code=204)
def name_set(project_id: int, body: SetIn, session: Db, f: Files) -> None:
    """Put photos into a set: rename, merge, split."""
    says = say("{count, plural, one {# photo} other {# photos}} put into a set", count=len(body.paths))
    with history.recorded(session, project_id, f, says):
        sets.name_set(f, body.paths, body.name)


@router.get("/sets")
def list_sets(project_id: int, session: Db, f: Files) -> list[sets.SetOut]:
    """Sets of photos, the largest first, with their colours and notes."""
    return sets.told(f, pictures.sets_of(get_project(session, project_id), f))


@router.put("/sets/{name}", status_code=204)
def mark_set(project_id: int, name: str, body: sets.Mark, session: Db, f: Files) -> None:
    """Give a set a colour and a note."""
    get_project(session, project_id)
    sets.mark(f, name, body)


@router.post("/remove")
def remove(project_id: int, body: PathsIn, session: Db, f: Files) -> trash.Removed:
    """Move photos into the project's trash; files that are only referred to stay where they are."""
    says = say("{count, plural, one {# photo} other {# photos}} removed", count=len(body.paths))
    with editing(session, project_id):
        pictures.check_known(f, body.paths)
        removed = history.remove_photos(f, body.paths)
        history.note(session, project_id, says, {"trash": removed.number, "paths": body.paths})
    return removed


@router.put("/focal", status_code=204)
def focal(project_id: int, body: FocalIn, session: Db, f: Files) -> None:
    """Say with what focal length photos were taken, whatever their files say; nothing takes that back."""
    pictures.check_known(f, body.paths)
    says = say("Focal length of {count, plural, one {# photo} other {# photos}}", count=len(body.paths))
    with history.recorded(session, project_id, f, says) as project:
        pictures.set_focal(project, body.paths, body.focal_as_35_mm)


@router.post("/zip", response_class=StreamingResponse, responses={200: {"content": {"application/zip": {}}}})
def pass_on(
    project_id: int, session: Db, f: Files, paths: Annotated[str, Form()] = "", evened: Annotated[bool, Form()] = False
) -> StreamingResponse:
    """Photos as a ZIP file: those named (one to a line), else all that are kept; as they are, or as they are read."""
    project = get_project(session, project_id)
    named = [p for p in paths.splitlines() if p] or None
    body = zipping.zipped(zipping.photos(project, f, named, evened))
    headers = {"Content-Disposition": 'attachment; filename="photos.zip"'}
    return StreamingResponse(body, media_type="application/zip", headers=headers)


@router.get("/dark", response_class=Response)
@reading.pictures
def dark(path: str, f: Files, side: Side = 480) -> Response:
    """What of a photo is too dark to hold features, hatched."""
    return Response(pictures.dark_picture(f, path, side), media_type="image/png")


@router.patch("")
def keep(project_id: int, body: Keep, session: Db, f: Files) -> list[str]:
    """Keep or leave out photos; returns what is left out now."""
    says = say(
        "{count, plural, one {# photo} other {# photos}} {kept, select, True {taken in} other {left out}}",
        count=len(body.paths), kept=str(body.kept),
    )  # fmt: skip
    with history.recorded(session, project_id, f, says) as project:
        now = set(project.left_out)
        project.left_out = sorted(now - set(body.paths) if body.kept else now | set(body.paths))
    if body.paths or body.decided:
        judging.decide(f, [*body.paths, *body.decided])
    return list(project.left_out)


@router.get("/thumb", response_class=FileResponse)
@reading.pictures
def thumb(path: str, f: Files, ahead: Background, side: Side = pictures.THUMB) -> FileResponse:
    """A small picture. Who asks for a large one may want to see single pixels next: its tiles are cut meanwhile."""
    if side >= tiles.PREVIEW:
        ahead.tiles(f, path)
    return FileResponse(pictures.thumbnail(f, path, side), headers=CACHED)


@router.get("/full", response_class=FileResponse)
@reading.pictures
def full(path: str, f: Files) -> FileResponse:
    """The upright photo at full size."""
    return FileResponse(pictures.upright(f, path), headers=CACHED)


@router.get("/tile", response_class=FileResponse)
@reading.pictures
def tile(path: str, level: Place, x: Place, y: Place, f: Files) -> FileResponse:
    """A tile of the upright photo: 512 pixels wide, at full size (level 0) or smaller by half with each level."""
    return FileResponse(tiles.tile_file(f, path, level, x, y), headers=CACHED)


@router.get("/color")
@reading.pictures
def color(path: str, x: Share, y: Share, f: Files) -> Color:
    """The colour at a place of a photo."""
    return Color(rgb=pictures.color_at(f, path, x, y))


@router.get("/key", response_class=Response)
@reading.pictures
def key(
    path: str,
    red: Level,
    green: Level,
    blue: Level,
    f: Files,
    tolerance: Annotated[float, Query(gt=0, le=100)] = 12,
    side: Side = 480,
) -> Response:
    """What keying out a colour would leave out."""
    return Response(pictures.key_preview(f, path, [(red, green, blue)], tolerance, side), media_type="image/png")


@router.get("/depth", response_class=Response)
@reading.pictures
def depth(row: int, f: Files) -> Response:
    """The depth map of a photo."""
    return Response(depths.depth_picture(f, row), media_type="image/png")


@router.get("/depth-range")
@reading.pictures
def depth_range(row: int, f: Files) -> depths.DepthRange:
    """The scale in which a depth map is drawn."""
    return depths.depth_range(f, row)


@router.get("/depth-at")
@reading.pictures
def depth_at(row: int, x: Share, y: Share, f: Files) -> depths.DepthAt:
    """The depth at a place of a photo, and the size of a pixel there; or why there is none."""
    return depths.depth_at(f, row, x, y)
