"""The open draft of edits: add, keep."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query
from fastapi.responses import FileResponse, JSONResponse
from pydantic import BaseModel
from sqlmodel import Session

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say
from vast_quarry.pipeline.editing import edits_document
from vast_quarry.pipeline.edits import Edit, Where
from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.models import Project
from vast_quarry.server.routers.jobs import JobOut
from vast_quarry.server.services import drafts, jobs
from vast_quarry.server.services.folders import Folders, NotFound, editing, get_project
from vast_quarry.server.services.layers import version_of

router = strict.router("/api/v1/projects/{project_id}/draft", "drafts")


class DraftOut(BaseModel):
    """State of the draft: edits done, edits that can be redone, triangles, and the version of Texture it stands on.

    While the worker still makes that state, ``faces`` is unknown and ``making`` is the job.
    """

    done: int
    redo: int
    faces: int | None
    #: as they are kept; those of another version of the program too
    edits: list[dict[str, Any]]
    on: int
    making: JobOut | None


On = Annotated[
    int | None, Query(description="Version of Texture that is shown; another one is told, and nothing is done")
]


def _out(project: Project, session: Session, f: Folders, make: bool = True) -> DraftOut:
    job = drafts.have_made(session, project, f) if make else drafts.being_made(session, project, f)
    session.refresh(project)
    return DraftOut(
        done=project.draft_done, redo=len(project.draft) - project.draft_done, faces=drafts.faces_of(project, f),
        edits=project.draft, on=drafts.texture_of(project, f).number, making=None if job is None else JobOut.of(job),
    )  # fmt: skip


def _save(project: Project, session: Session) -> None:
    session.add(project)
    session.commit()
    session.refresh(project)


def _check(project: Project, f: Folders, on: int | None) -> None:
    """Refuse an edit that was made on something else than it would be done to."""
    now = drafts.texture_of(project, f).number
    if on is not None and on != now:
        raise PlainError(
            say("This edit was made on version {on} of Texture, but version {now} is shown now.", on=on, now=now),
            "Look at it, and edit that.",
        )


@router.get("")
def read(project_id: int, session: Db, f: Files) -> DraftOut:
    """The draft."""
    return _out(get_project(session, project_id), session, f, make=False)


@router.post("/make", status_code=202)
def make(project_id: int, session: Db, f: Files) -> DraftOut:
    """Have the draft as it is made by the worker, if it is not there (its files may have been freed)."""
    return _out(get_project(session, project_id), session, f)


@router.post("", status_code=202)
def add(project_id: int, edit: Edit, session: Db, f: Files, on: On = None) -> DraftOut:
    """Add an edit, to be done by the worker; one that leaves nothing fails there, and is taken out again."""
    with editing(session, project_id) as project:
        _check(project, f, on)
        number = drafts.texture_of(project, f).number
        project.draft = [*project.draft[: project.draft_done], edit.record()]
        project.draft_done, project.draft_on = len(project.draft), number
        _save(project, session)
        return _out(project, session, f)


class SelectIn(BaseModel):
    """What is to be selected, step by step."""

    where: Where


class SelectOut(BaseModel):
    """What was selected: how many faces; while the worker still looks it is unknown, and ``making`` is the job."""

    faces: int | None
    making: JobOut | None


@router.post("/select", status_code=202)
def select(project_id: int, wanted: SelectIn, session: Db, f: Files) -> SelectOut:
    """Find what a selection names in the draft as it is; nothing is done to it."""
    project, where = get_project(session, project_id), _records(wanted)
    job = drafts.have_chosen(session, project, f, where)
    if job is not None:
        return SelectOut(faces=None, making=JobOut.of(job))
    with drafts.chosen_file(project, f, where).open("rb") as file:
        return SelectOut(faces=int.from_bytes(file.read(4), "little"), making=None)


@router.post("/selected", response_class=FileResponse)
def selected(project_id: int, wanted: SelectIn, session: Db, f: Files) -> FileResponse:
    """Faces of a selection that was found: their number (32 bits), then the corners of those to be tinted as 32-bit floats."""
    path = drafts.chosen_file(get_project(session, project_id), f, _records(wanted))
    if not path.exists():
        raise NotFound("This selection is not found yet.")
    return FileResponse(path, media_type="application/octet-stream")


def _records(wanted: SelectIn) -> list[dict[str, Any]]:
    return [c.model_dump(mode="json", exclude_unset=True) for c in wanted.where]


@router.post("/carry", status_code=202)
def carry(project_id: int, session: Db, f: Files) -> DraftOut:
    """Do the draft's edits again on the version of Texture in use."""
    with editing(session, project_id) as project:
        drafts.carry_over(project, f)
        _save(project, session)
        return _out(project, session, f)


@router.get("/edits", response_class=JSONResponse)
def edits(project_id: int, session: Db) -> JSONResponse:
    """The draft's edits as a file, to be replayed by ``finish`` on the command line."""
    project = get_project(session, project_id)
    document = edits_document(project.draft[: project.draft_done])
    return JSONResponse(document, headers={"Content-Disposition": 'attachment; filename="edits.json"'})


@router.delete("")
def begin_anew(project_id: int, session: Db, f: Files) -> DraftOut:
    """Give the draft up, to begin on the version of Texture in use."""
    with editing(session, project_id) as project:
        project.draft, project.draft_done, project.draft_on = [], 0, None
        _save(project, session)
        return _out(project, session, f)


@router.post("/keep", status_code=202)
def keep(project_id: int, session: Db, f: Files) -> JobOut:
    """Turn the draft into a version, as a job."""
    with editing(session, project_id) as project:
        edits = project.draft[: project.draft_done]
        if not edits:
            raise PlainError("There are no edits to keep.", "Cut or delete something first.")
        _check(project, f, version_of(f, "texture", None).number)
        project.settings = {**project.settings, "finish": {"edits": edits}}
        _save(project, session)
        return JobOut.of(jobs.add_run(session, project, "finish"))


@router.get("/mesh", response_class=FileResponse)
def mesh(project_id: int, session: Db, f: Files) -> FileResponse:
    """The model as the draft has it, as GLB for display; it has to be made."""
    path = drafts.draft_file(get_project(session, project_id), f)
    if path is None:
        raise NotFound("The model is still being edited.")
    return FileResponse(path, media_type="model/gltf-binary", headers={"Cache-Control": "no-cache"})
