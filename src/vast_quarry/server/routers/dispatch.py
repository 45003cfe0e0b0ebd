"""Downloads."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import FileResponse, JSONResponse

from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.services import dispatch, layers
from vast_quarry.server.services.folders import get_project

router = APIRouter(prefix="/api/projects/{project_id}/dispatch", tags=["dispatch"])


@router.get("")
def kinds(f: Files) -> list[dispatch.ParcelOut]:
    """Kinds of parcels with their sizes."""
    return dispatch.parcels_of(f)


@router.get("/parcel", response_class=FileResponse)
def parcel(project_id: int, wanted: Annotated[dispatch.ParcelIn, Query()], session: Db, f: Files) -> FileResponse:
    """A parcel, to be saved."""
    name = re.sub(r"[^A-Za-z0-9_-]+", "-", get_project(session, project_id).name).strip("-").lower() or "model"
    path = dispatch.make_parcel(f, wanted.model_copy(update={"layer": dispatch.source_layer(f)}), name)
    return FileResponse(path, filename=path.name)


@router.get("/recipe", response_class=JSONResponse)
def recipe(project_id: int, session: Db) -> JSONResponse:
    """The project's recipe."""
    made = layers.recipe_of(get_project(session, project_id))
    return JSONResponse(
        made.model_dump(mode="json"), headers={"Content-Disposition": 'attachment; filename="recipe.json"'}
    )
