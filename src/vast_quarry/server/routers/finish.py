"""The open draft of edits: add, undo, redo, keep; and the box by hand."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from fastapi.responses import FileResponse
from pydantic import BaseModel
from sqlmodel import Session

from vast_quarry.core.errors import PlainError
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.models import Project
from vast_quarry.server.routers.jobs import JobOut
from vast_quarry.server.services import drafts, jobs
from vast_quarry.server.services.folders import Folders, get_project

router = APIRouter(prefix="/api/projects/{project_id}/draft", tags=["finish"])


class DraftOut(BaseModel):
    """State of the draft: edits done, edits that can be redone, faces now."""

    done: int
    redo: int
    faces: int
    edits: list[dict[str, Any]]


def _out(project: Project, f: Folders) -> DraftOut:
    mesh = drafts.draft_mesh(project, f)
    return DraftOut(
        done=project.draft_done,
        redo=len(project.draft) - project.draft_done,
        faces=len(mesh.faces),
        edits=project.draft,
    )


def _save(project: Project, session: Session) -> None:
    session.add(project)
    session.commit()
    session.refresh(project)


@router.get("")
def read(project_id: int, session: Db, f: Files) -> DraftOut:
    """The draft."""
    return _out(get_project(session, project_id), f)


@router.post("")
def add(project_id: int, edit: dict[str, Any], session: Db, f: Files) -> DraftOut:
    """Add an edit; one that leaves nothing is refused and the draft stays."""
    project = get_project(session, project_id)
    before = (project.draft, project.draft_done)
    project.draft = [*project.draft[: project.draft_done], edit]
    project.draft_done = len(project.draft)
    try:
        out = _out(project, f)
    except PlainError:
        project.draft, project.draft_done = before
        raise
    _save(project, session)
    return out


@router.post("/undo")
def undo(project_id: int, session: Db, f: Files) -> DraftOut:
    """Take the last edit back."""
    project = get_project(session, project_id)
    project.draft_done = max(0, project.draft_done - 1)
    _save(project, session)
    return _out(project, f)


@router.post("/redo")
def redo(project_id: int, session: Db, f: Files) -> DraftOut:
    """Do the edit taken back last again."""
    project = get_project(session, project_id)
    project.draft_done = min(len(project.draft), project.draft_done + 1)
    _save(project, session)
    return _out(project, f)


@router.post("/keep", status_code=202)
def keep(project_id: int, session: Db) -> JobOut:
    """Turn the draft into a version, as a job."""
    project = get_project(session, project_id)
    edits = project.draft[: project.draft_done]
    if not edits:
        raise PlainError("There are no edits to keep.", "Cut or delete something first.")
    project.settings = {**project.settings, "finish": {"edits": edits}}
    _save(project, session)
    return JobOut.of(jobs.add_run(session, project, "finish"))


@router.get("/mesh", response_class=FileResponse)
def mesh(project_id: int, session: Db, f: Files) -> FileResponse:
    """The model as the draft has it, as GLB."""
    path = drafts.draft_file(get_project(session, project_id), f)
    return FileResponse(path, media_type="model/gltf-binary", headers={"Cache-Control": "no-cache"})
