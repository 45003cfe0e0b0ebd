"""Resumable uploads of photos and videos (tus 1.0.0)."""

from __future__ import annotations

import asyncio
from typing import Any

from fastapi import Request, Response
from sqlmodel import Session

from vast_quarry.core.formats.lock import Taken
from vast_quarry.core.words import Said
from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db, Files
from vast_quarry.server.problems import Problem, problem
from vast_quarry.server.services import jobs, uploads
from vast_quarry.server.services.folders import Folders, get_project

router = strict.router("/api/v1/projects/{project_id}/uploads", "uploads")
#: answers of the protocol beside those of all addresses
BEGUN: dict[int | str, dict[str, Any]] = {400: {"model": Problem}}
GOES_ON: dict[int | str, dict[str, Any]] = {413: {"model": Problem}, 415: {"model": Problem}, 423: {"model": Problem}}
TUS = {"Tus-Resumable": uploads.VERSION, "Cache-Control": "no-store"}


@router.options("", status_code=204, response_class=Response)
def able() -> Response:
    """What this end of the protocol can do."""
    more = {
        "Tus-Version": uploads.VERSION,
        "Tus-Extension": "creation,termination",
        "Tus-Max-Size": str(uploads.LARGEST),
    }
    return Response(status_code=204, headers={**TUS, **more})


@router.post("", status_code=201, response_class=Response, responses=BEGUN)
def create(project_id: int, request: Request, session: Db, f: Files) -> Response:
    """Begin an upload; ``Upload-Metadata`` holds its ``filename``."""
    get_project(session, project_id)
    try:
        length = int(request.headers.get("Upload-Length", ""))
    except ValueError:
        return problem(Said("Upload-Length is missing."), 400, headers=TUS)
    number = uploads.begin(f, length, uploads.metadata(request.headers.get("Upload-Metadata", "")))
    return Response(status_code=201, headers={**TUS, "Location": f"/api/v1/projects/{project_id}/uploads/{number}"})


@router.head("/{number}", response_class=Response, responses={423: GOES_ON[423]})
def how_far(project_id: int, number: str, session: Db, f: Files) -> Response:
    """How much has come. What came whole before a kill is taken in now: its sender will not come back with more."""
    try:
        with uploads.receiving(f, number) as c:
            offset = c.offset
            if offset == c.length:
                _finish(session, f, project_id, number)
            return Response(headers={**TUS, "Upload-Offset": str(offset), "Upload-Length": str(c.length)})
    except Taken:
        return problem(Said("Somebody else goes on with this upload."), 423, headers=TUS)


def _finish(session: Session, f: Folders, project_id: int, number: str) -> None:
    name = uploads.finish(f, number)
    if name is not None:
        jobs.add_job(session, project_id, "look", {"name": name})


@router.patch("/{number}", status_code=204, response_class=Response, responses=GOES_ON)
async def more(project_id: int, number: str, request: Request, session: Db, f: Files) -> Response:
    """Go on; when all has come it is taken in, and a video is looked through as a job."""
    if request.headers.get("Content-Type") != "application/offset+octet-stream":
        return problem(Said("The body has to be application/offset+octet-stream."), 415, headers=TUS)
    try:
        with uploads.receiving(f, number) as c:
            if request.headers.get("Upload-Offset") != str(c.offset):
                told = {**TUS, "Upload-Offset": str(c.offset)}
                return problem(Said("The upload stands elsewhere."), 409, headers=told)
            if c.taken is None and not await _receive(request, c):
                return problem(Said("More came than was told."), 413, headers=TUS)
            offset = c.offset
            if offset == c.length:
                await asyncio.to_thread(_finish, session, f, project_id, number)
            return Response(status_code=204, headers={**TUS, "Upload-Offset": str(offset)})
    except Taken:
        return problem(Said("Somebody else goes on with this upload."), 423, headers=TUS)


async def _receive(request: Request, c: uploads.Coming) -> bool:
    """Write what comes; whether it was no more than was told, else nothing of this request is kept."""
    began = c.offset
    left = c.length - began
    with c.part.open("ab") as out:
        async for block in request.stream():
            left -= len(block)
            if left < 0:
                out.truncate(began)
                return False
            # a cut connection keeps what has come
            await asyncio.to_thread(out.write, block)
    return True


@router.delete("/{number}", status_code=204, response_class=Response)
def drop(number: str, f: Files) -> Response:
    """Give an upload up."""
    uploads.coming(f, number)
    uploads.forget(f, number)
    return Response(status_code=204, headers=TUS)
