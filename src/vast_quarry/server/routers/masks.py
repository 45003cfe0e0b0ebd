"""Masks of a project: what was found, mending by hand, pictures, export."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field

from vast_quarry.pipeline.mask_edits import AnyEdit
from vast_quarry.server import reading, strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.services import masks
from vast_quarry.server.services.folders import get_project
from vast_quarry.server.services.zipping import zipped

router = strict.router("/api/v1/projects/{project_id}/masks", "masks")
Side = Annotated[int, Query(ge=32, le=2400)]


class EditIn(BaseModel):
    """An edit of the masks of some photos."""

    paths: list[str] = Field(max_length=20_000)
    edit: AnyEdit


@router.get("")
def all_masks(project_id: int, session: Db, f: Files) -> masks.MasksOut:
    """What is known of the masks."""
    return masks.masks_of(session, get_project(session, project_id), f)


@router.post("/edits", status_code=201)
def edit(project_id: int, body: EditIn, session: Db, f: Files) -> masks.MasksOut:
    """Mend masks."""
    return masks.add_edit(session, project_id, f, body.paths, body.edit)


@router.get("/picture", response_class=Response)
@reading.pictures
def picture(path: str, f: Files, side: Side = 480) -> Response:
    """What the mask leaves out, hatched, with edits; a clear picture without a mask."""
    return Response(masks.mask_picture(f, path, side), media_type="image/png")


@router.get("/export", response_class=StreamingResponse, responses={200: {"content": {"application/zip": {}}}})
def export(f: Files) -> StreamingResponse:
    """All masks as PNG in a ZIP file."""
    headers = {"Content-Disposition": 'attachment; filename="masks.zip"'}
    return StreamingResponse(zipped(masks.exported(f)), media_type="application/zip", headers=headers)
