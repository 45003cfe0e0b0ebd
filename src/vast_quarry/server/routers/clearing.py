"""Points to be cleared away: choose, delete, keep."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Annotated

from fastapi import Query
from fastapi.responses import Response
from pydantic import BaseModel, Field
from sqlmodel import Session

from vast_quarry.pipeline.clearing import BrushTerm, CellsTerm, ClearEdit, ColorTerm, OutlineTerm, PlaneTerm, Terms
from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.models import Project
from vast_quarry.server.routers.jobs import JobOut
from vast_quarry.server.services import clearing, jobs
from vast_quarry.server.services.folders import Folders, editing, get_project
from vast_quarry.server.services.world import USUAL_BUDGET

router = strict.router("/api/v1/projects/{project_id}/points", "points")
On = Annotated[
    int | None, Query(ge=1, description="Version of Points that is shown; another one is told, and nothing is done")
]
Budget = Annotated[int, Query(ge=100, le=5_000_000, description="Points that the page draws at most")]


class ClearingOut(BaseModel):
    """State of the draft: edits done, edits that can be redone, points left and taken away, the version of Points it stands on."""

    on: int
    done: int
    redo: int
    left: int
    gone: int
    #: edits that were kept in that version
    earlier: int


class SelectIn(BaseModel):
    """What is chosen."""

    terms: Terms


def _out(f: Folders, draft: clearing.Draft) -> ClearingOut:
    left, gone = clearing.left_of(f, draft)
    return ClearingOut(
        on=draft.on, done=draft.done, redo=len(draft.edits) - draft.done, left=left, gone=gone,
        earlier=clearing.earlier_in(f, draft),
    )  # fmt: skip


@contextmanager
def _changing(session: Session, project_id: int, f: Folders) -> Iterator[tuple[Project, clearing.Draft]]:
    """A project and its draft, to be changed while nobody else does; written at the end."""
    with editing(session, project_id) as project:
        draft = clearing.draft_of(project, f)
        yield project, draft
        clearing.write_draft(project, draft)


@router.get("/draft")
def read(project_id: int, session: Db, f: Files) -> ClearingOut:
    """The draft."""
    return _out(f, clearing.draft_of(get_project(session, project_id), f))


@router.post("/select", response_class=Response)
def select(
    project_id: int, choice: SelectIn, session: Db, f: Files, on: On = None, budget: Budget = USUAL_BUDGET
) -> Response:
    """Which points some terms choose: how many, of how many, and a bit for each that the page draws."""
    draft = clearing.draft_of(get_project(session, project_id), f)
    clearing.check_on(draft, on)
    return _bits(clearing.as_drawn(clearing.selected(f, draft, choice.terms), budget))


@router.get("/gone", response_class=Response)
def gone(project_id: int, session: Db, f: Files, on: On = None, budget: Budget = USUAL_BUDGET) -> Response:
    """Which points the draft takes away, as for a choice."""
    draft = clearing.draft_of(get_project(session, project_id), f)
    clearing.check_on(draft, on)
    return _bits(clearing.as_drawn(clearing.gone(f, draft), budget))


def _bits(data: bytes) -> Response:
    return Response(data, media_type="application/octet-stream", headers={"Cache-Control": "no-store"})


@router.post("/find")
def find(
    project_id: int, wish: clearing.FindIn, session: Db, f: Files, on: On = None
) -> Annotated[CellsTerm | ColorTerm | PlaneTerm | OutlineTerm | BrushTerm, Field(discriminator="kind")]:
    """A term for the colour at a place or what hangs together about it, for what looks like strays, for the plane of what is chosen,
    or for what is in front under a shape."""
    draft = clearing.draft_of(get_project(session, project_id), f)
    clearing.check_on(draft, on)
    return clearing.found(f, draft, wish)


@router.post("/draft")
def add(project_id: int, edit: ClearEdit, session: Db, f: Files, on: On = None) -> ClearingOut:
    """Delete what is chosen, or all else; nothing on disk changes until it is kept."""
    with _changing(session, project_id, f) as (_, draft):
        clearing.check_on(draft, on)
        clearing.add(f, draft, edit)
    return _out(f, draft)


@router.delete("/draft")
def give_up(project_id: int, session: Db, f: Files) -> ClearingOut:
    """Give the draft up, to begin on the version of Points in use."""
    with _changing(session, project_id, f) as (_, draft):
        draft.edits, draft.done = [], 0
    return read(project_id, session, f)


@router.post("/keep", status_code=202)
def keep(project_id: int, session: Db, f: Files) -> JobOut:
    """Turn the draft into a version, as a job. Later versions of Points leave out the same."""
    with _changing(session, project_id, f) as (project, draft):
        settings = clearing.keep(f, draft)
        mine = {**project.settings.get("points", {}), "cleared": settings["cleared"]}
        project.settings = {**project.settings, "points": mine}
        draft.edits, draft.done = [], 0
    return JobOut.of(jobs.add_run(session, project, "points", settings={"points": settings}))


@router.delete("/cleared", status_code=202)
def bring_back(project_id: int, session: Db, f: Files) -> JobOut:
    """Have everything back that was cleared away and kept, as a job; the versions without it stay."""
    with _changing(session, project_id, f) as (project, draft):
        settings = clearing.brought_back(f, draft)
        mine = {k: v for k, v in project.settings.get("points", {}).items() if k != "cleared"}
        project.settings = {**project.settings, "points": mine}
        draft.edits, draft.done = [], 0
    return JobOut.of(jobs.add_run(session, project, "points", settings={"points": settings}))
