"""Projects."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request
from pydantic import BaseModel, Field
from sqlmodel import Session, col, select

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.models import Job, Project
from vast_quarry.server.services import jobs, videos
from vast_quarry.server.services.folders import Folders, duplicate, editing, folders_of, get_project, remove
from vast_quarry.server.services.sizes import sizes_of

router = strict.router("/api/v1/projects", "projects")


class ProjectIn(BaseModel):
    """A new project, or a changed name or grade."""

    name: str | None = Field(None, min_length=1, max_length=120)
    grade: Grade | None = None
    notes: str | None = Field(None, max_length=50_000, description="Markdown")


class FilmOut(BaseModel):
    """A video, and the number of a small picture of it."""

    name: str
    picture: int


class DrawnLap(BaseModel):
    """A lap of a plan, for a small drawing."""

    rise_deg: float
    count: int


class ProjectOut(BaseModel):
    """A project, as told to the page."""

    id: int
    name: str
    made: str
    grade: Grade
    #: what somebody noted of it, as Markdown
    notes: str
    photos: int
    videos: int
    bytes: int
    #: of these, what can be made again at any time: thumbnails, tiles, meshes as the page loads them, parcels
    cache_bytes: int
    best_layer: str | None
    running: bool
    #: shots of its plan; 0 when nothing was planned
    planned: int
    #: first photo
    picture: str | None
    #: where there is neither photo nor result: a video and the number of a small picture of it, and laps of the plan (elevation in
    #: degrees, shots) about its stand-in
    film: FilmOut | None = None
    laps: list[DrawnLap] = []
    shape: str = ""
    #: layer whose still picture shows the best result
    poster: str | None
    #: why its files cannot be told of: all that depends on them is nothing then
    trouble: Sentence | None = None


def _out(project: Project, f: Folders, session: Session) -> ProjectOut:
    """A project as it is told; one whose files are damaged is told with its trouble, and is no matter of the others."""
    assert project.id is not None
    trouble = None
    in_use: dict[str, int] = {}
    try:
        in_use = f.store.in_use()
    except PlainError as error:
        trouble = error.said
    except (OSError, ValueError) as error:
        trouble = say("A file of this project cannot be read ({why}).", why=error)
    best = next((x for x in ("finish", "texture", "surface", "points", "cameras", "photos") if x in in_use), None)
    sizes = sizes_of(f)
    running = session.exec(
        select(Job.id).where(Job.project_id == project.id, col(Job.state).in_(["queued", "running"]))
    ).first()
    nothing = not sizes.photos and best not in ("surface", "texture", "finish")
    film = videos.first_looked(f) if nothing else None
    return ProjectOut(
        film=FilmOut(name=film[0], picture=film[1]) if film else None,
        laps=[DrawnLap(rise_deg=r, count=n) for r, n in project.plan.get("drawn", [])] if nothing else [],
        shape=str(project.plan.get("shape", "")), id=project.id, name=project.name, made=project.made, notes=project.notes, grade=Grade(project.grade), photos=sizes.photos,
        videos=videos.count(f), bytes=sizes.total,
        cache_bytes=sizes.cache, best_layer=best, running=running is not None, planned=int(project.plan.get("total", 0)), picture=sizes.first,
        poster=best if best in ("surface", "texture", "finish") else None, trouble=trouble,
    )  # fmt: skip


@router.get("")
def list_projects(
    request: Request,
    session: Db,
    before: Annotated[int | None, Query(ge=1, description="Only projects below this number")] = None,
    limit: Annotated[int | None, Query(ge=1, le=1000, description="At most so many; else all")] = None,
) -> list[ProjectOut]:
    """All projects, newest first, or a page of them."""
    wanted = select(Project).order_by(col(Project.id).desc()).limit(limit)
    rows = session.exec(wanted if before is None else wanted.where(col(Project.id) < before)).all()
    return [_out(p, folders_of(request.app.state.data, p.id or 0), session) for p in rows]


@router.post("", status_code=201)
def add_project(request: Request, body: ProjectIn, session: Db) -> ProjectOut:
    """A new project."""
    project = Project(name=body.name or "New project", grade=(body.grade or Grade.DRESSED).value)
    session.add(project)
    session.commit()
    session.refresh(project)
    f = folders_of(request.app.state.data, project.id or 0)
    f.make()
    return _out(project, f, session)


@router.get("/{project_id}")
def read_project(project_id: int, session: Db, f: Files) -> ProjectOut:
    """One project."""
    return _out(get_project(session, project_id), f, session)


@router.patch("/{project_id}")
def change_project(project_id: int, body: ProjectIn, session: Db, f: Files) -> ProjectOut:
    """Change name or grade."""
    with editing(session, project_id) as project:
        project.name = body.name or project.name
        project.grade = (body.grade or Grade(project.grade)).value
        project.notes = project.notes if body.notes is None else body.notes
    return _out(project, f, session)


@router.post("/{project_id}/duplicate", status_code=201)
def duplicate_project(request: Request, project_id: int, body: ProjectIn, session: Db, f: Files) -> ProjectOut:
    """A second project with the same photos, plan, settings and versions, to try something else with."""
    first = get_project(session, project_id)
    kept = first.model_dump(exclude={"id", "revision", "made", "name"})
    second = Project(name=body.name or first.name, **kept)
    session.add(second)
    session.commit()
    session.refresh(second)
    into = folders_of(request.app.state.data, second.id or 0)
    try:
        duplicate(f, into)
    except OSError:
        session.delete(second)
        session.commit()
        remove(into)
        raise
    return _out(second, into, session)


@router.delete("/{project_id}", status_code=204)
def remove_project(request: Request, project_id: int, session: Db, f: Files) -> None:
    """Remove a project with its files; a job that runs on it is stopped first.

    Raises
    ------
    PlainError
        When its job does not stop, and everything stays; or when files cannot be deleted, which are named.
    """
    project = get_project(session, project_id)
    jobs.stop_all(session, project_id)
    request.app.state.ahead.forget(f)
    session.refresh(project)
    session.delete(project)
    session.commit()
    remove(f)
