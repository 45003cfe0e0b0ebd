"""What was removed from a project and can be brought back, what could go, and what can be taken back."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel

from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.services import history, trash, versions
from vast_quarry.server.services.folders import editing, get_project

router = strict.router("/api/v1/projects/{project_id}", "trash, space and history")


class FreeIn(BaseModel):
    """What is to go."""

    what: list[Literal["cache", "runs", "versions", "trash"]]


@router.get("/trash")
def read_trash(project_id: int, session: Db, f: Files) -> trash.TrashOut:
    """What was removed, newest first."""
    get_project(session, project_id)
    return trash.trash_of(f)


@router.post("/trash/{number}/bring-back")
def bring_back(project_id: int, number: int, session: Db, f: Files) -> trash.Removed:
    """Put something back where it stood."""
    with editing(session, project_id):
        item = trash.bring_back(f, number)
        versions.bring_back(f, item)
    return item


@router.delete("/trash/{number}")
def delete_one(project_id: int, number: int, session: Db, f: Files) -> int:
    """Delete something for good; bytes that were freed."""
    get_project(session, project_id)
    return trash.empty(f, number)


@router.delete("/trash")
def empty_trash(project_id: int, session: Db, f: Files) -> int:
    """Delete all of it for good; bytes that were freed."""
    get_project(session, project_id)
    return trash.empty(f)


@router.get("/space")
def space(project_id: int, session: Db, f: Files) -> versions.SpaceOut:
    """What takes room, and what of it could go."""
    get_project(session, project_id)
    return versions.space_of(f)


@router.post("/space/free")
def free(project_id: int, body: FreeIn, session: Db, f: Files) -> int:
    """Let things go; bytes that were freed. Versions go into the trash."""
    return versions.free(f, get_project(session, project_id), body.what)


@router.get("/history/{layer}")
def read_history(project_id: int, layer: history.EditedLayer, session: Db, f: Files) -> history.HistoryOut:
    """What can be taken back and done again in a layer."""
    return history.history_of(session, project_id, f, layer)


@router.post("/history/{layer}/undo")
def undo(project_id: int, layer: history.EditedLayer, session: Db, f: Files) -> history.HistoryOut:
    """Take the last step back."""
    return history.move(session, project_id, f, layer, forth=False)


@router.post("/history/{layer}/redo")
def redo(project_id: int, layer: history.EditedLayer, session: Db, f: Files) -> history.HistoryOut:
    """Do the step again that was taken back last."""
    return history.move(session, project_id, f, layer, forth=True)
