"""The open draft of edits: add, undo, redo, keep."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query
from fastapi.responses import FileResponse
from pydantic import BaseModel
from sqlmodel import Session

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say
from vast_quarry.pipeline.edits import Edit
from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.models import Project
from vast_quarry.server.routers.jobs import JobOut
from vast_quarry.server.services import drafts, jobs
from vast_quarry.server.services.folders import Folders, NotFound, editing, get_project
from vast_quarry.server.services.layers import version_of

router = strict.router("/api/projects/{project_id}/draft", "drafts")


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


@router.post("/undo", status_code=202)
def undo(project_id: int, session: Db, f: Files) -> DraftOut:
    """Take the last edit back."""
    with editing(session, project_id) as project:
        project.draft_done = max(0, project.draft_done - 1)
        _save(project, session)
        return _out(project, session, f)


@router.delete("")
def begin_anew(project_id: int, session: Db, f: Files) -> DraftOut:
    """Give the draft up, to begin on the version of Texture in use."""
    with editing(session, project_id) as project:
        project.draft, project.draft_done, project.draft_on = [], 0, None
        _save(project, session)
        return _out(project, session, f)


@router.post("/redo", status_code=202)
def redo(project_id: int, session: Db, f: Files) -> DraftOut:
    """Do the edit taken back last again."""
    with editing(session, project_id) as project:
        if not project.draft_done and project.draft_on != drafts.texture_of(project, f).number:
            project.draft = []  # they were edits of another texture
        project.draft_done = min(len(project.draft), project.draft_done + 1)
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
