"""Jobs, and their progress as server-sent events."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import AsyncIterator, Mapping
from datetime import UTC, datetime
from typing import Any, Literal

from fastapi import Request
from pydantic import BaseModel
from sqlmodel import Session, select
from sse_starlette.sse import EventSourceResponse

from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db
from vast_quarry.server.models import Job, Project
from vast_quarry.server.services.jobs import cancel_job, pause_job, recent_jobs

router = strict.router("/api/jobs", "jobs")


class JobOut(BaseModel):
    """A job, as told to the page."""

    id: int
    project_id: int
    #: what the project is called
    project: str
    kind: Literal["run", "shoot", "look", "frames", "judge", "bring", "edit", "parcel"]
    state: Literal["queued", "running", "done", "failed", "cancelled"]
    #: layer up to which a run goes
    until: str | None
    #: layer it is at
    layer: str
    stage: str
    done: float
    total: float
    seconds_left: float | None
    message: Sentence
    log: list[Sentence]
    cancel: bool
    pause: bool
    made: str
    started: str | None
    ended: str | None
    heartbeat: str | None

    @classmethod
    def of(cls, job: Job, names: Mapping[int, str] | None = None) -> JobOut:
        """As the database has it now; ``names`` are those of projects by their numbers."""
        project = (names or {}).get(job.project_id, "")
        return cls.model_validate({**job.model_dump(), "until": job.params.get("layer"), "project": project})


def _names(session: Session) -> dict[int, str]:
    return {int(k): str(v) for k, v in session.exec(select(Project.id, Project.name)) if k is not None}


@router.get("")
def list_jobs(session: Db) -> list[JobOut]:
    """Recent jobs, newest first."""
    names = _names(session)
    return [JobOut.of(j, names) for j in recent_jobs(session)]


@router.post("/{job_id}/cancel")
def cancel(job_id: int, session: Db) -> JobOut:
    """Ask a job to stop."""
    return JobOut.of(cancel_job(session, job_id))


@router.post("/{job_id}/pause")
def pause(job_id: int, session: Db) -> JobOut:
    """Ask a shoot to wait after the shot under way."""
    return JobOut.of(pause_job(session, job_id, True))


@router.post("/{job_id}/go-on")
def go_on(job_id: int, session: Db) -> JobOut:
    """Let a shoot go on: the shot that failed is tried again."""
    return JobOut.of(pause_job(session, job_id, False))


def _snapshot(request: Request) -> list[dict[str, Any]]:
    """Recent jobs, the time left of a running one counted down since its worker last spoke."""
    with Session(request.app.state.engine) as session:
        out, names = [], _names(session)
        for j in recent_jobs(session, 12):
            row = JobOut.of(j, names).model_dump(mode="json")
            row["log"] = row["log"][-60:]
            if j.state == "running" and j.seconds_left and j.heartbeat:
                quiet = (datetime.now(UTC) - datetime.fromisoformat(j.heartbeat)).total_seconds()
                row["seconds_left"] = round(max(j.seconds_left - quiet, 0.1 * j.seconds_left, 1.0), 1)
            out.append(row)
        return out


@router.get("/events", response_class=EventSourceResponse)
async def events(request: Request) -> EventSourceResponse:
    """Jobs whenever something changes, at least once a second while one runs; and which projects have changed."""

    async def stream() -> AsyncIterator[dict[str, str]]:
        last, known, told = "", "", 0.0
        while not await request.is_disconnected():
            listed = await asyncio.to_thread(_snapshot, request)
            text, clock = json.dumps(listed), time.monotonic()
            # a heavy call may keep the worker silent: who watches still sees that it lives
            if text != last or (clock - told > 0.7 and any(j["state"] == "running" for j in listed)):
                last, told = text, clock
                yield {"event": "jobs", "data": text}
            revisions = json.dumps(request.app.state.revisions)
            if revisions != known:
                known = revisions
                yield {"event": "changes", "data": revisions}
            await asyncio.sleep(0.25)

    return EventSourceResponse(stream(), ping=5)
