"""Downloads."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from fastapi.responses import FileResponse, JSONResponse

from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.routers.jobs import JobOut
from vast_quarry.server.services import dispatch, layers
from vast_quarry.server.services.folders import NotFound, get_project

router = strict.router("/api/v1/projects/{project_id}/dispatch", "dispatch")


@router.get("")
def kinds(project_id: int, session: Db, f: Files) -> dispatch.ParcelsOut:
    """Kinds of parcels with their sizes, and how large the model is."""
    return dispatch.parcels_of(get_project(session, project_id), f)


@router.post("/parcel", status_code=202)
def make(project_id: int, wanted: dispatch.ParcelIn, session: Db, f: Files) -> JobOut | None:
    """Have a parcel made, as a job; nothing when it is there already."""
    job = dispatch.have_parcel(session, get_project(session, project_id), f, wanted)
    return JobOut.of(job) if job else None


@router.get("/parcel", response_class=FileResponse)
def parcel(project_id: int, wanted: Annotated[dispatch.ParcelIn, Query()], session: Db, f: Files) -> FileResponse:
    """A parcel that was made, to be saved."""
    path = dispatch.parcel_file(f, wanted, dispatch.file_name(get_project(session, project_id)))
    if not path.exists():
        raise NotFound("This file is not made yet, or was removed to free space.", "Press Save again.")
    return FileResponse(path, filename=path.name)


@router.get("/recipe", response_class=JSONResponse)
def recipe(project_id: int, session: Db) -> JSONResponse:
    """The project's recipe."""
    made = layers.recipe_of(get_project(session, project_id))
    return JSONResponse(
        made.model_dump(mode="json"), headers={"Content-Disposition": 'attachment; filename="recipe.json"'}
    )
