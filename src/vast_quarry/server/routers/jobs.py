"""Jobs, and their progress as server-sent events."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator

from fastapi import APIRouter, Request
from sqlmodel import Session
from sse_starlette.sse import EventSourceResponse

from vast_quarry.server.models import Job
from vast_quarry.server.routers.projects import Db
from vast_quarry.server.services.jobs import cancel_job, recent_jobs

router = APIRouter(prefix="/api/jobs", tags=["jobs"])


@router.get("")
def list_jobs(session: Db) -> list[Job]:
    """Recent jobs, newest first."""
    return recent_jobs(session)


@router.post("/{job_id}/cancel")
def cancel(job_id: int, session: Db) -> Job:
    """Ask a job to stop."""
    return cancel_job(session, job_id)


def _snapshot(request: Request) -> str:
    with Session(request.app.state.engine) as session:
        return json.dumps([{**j.model_dump(), "log": j.log[-60:]} for j in recent_jobs(session, 12)])


@router.get("/events", response_class=EventSourceResponse)
async def events(request: Request) -> EventSourceResponse:
    """Jobs whenever something changes, at least once a second while one runs; and which projects have changed."""

    async def stream() -> AsyncIterator[dict[str, str]]:
        last, known = "", ""
        while not await request.is_disconnected():
            text = await asyncio.to_thread(_snapshot, request)
            if text != last:
                last = text
                yield {"event": "jobs", "data": text}
            revisions = json.dumps(request.app.state.revisions)
            if revisions != known:
                known = revisions
                yield {"event": "changes", "data": revisions}
            await asyncio.sleep(0.4)

    return EventSourceResponse(stream(), ping=5)
