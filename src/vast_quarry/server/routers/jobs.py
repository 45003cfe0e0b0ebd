"""Jobs, and their progress as server-sent events."""

from __future__ import annotations

import asyncio
import json
import logging
import time
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager, suppress
from datetime import UTC, datetime
from typing import Annotated, Any, Literal

from fastapi import FastAPI, Query, Request
from pydantic import BaseModel
from sqlalchemy import Connection, Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session, select
from sse_starlette.sse import EventSourceResponse

from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.server import strict
from vast_quarry.server.dependencies import Db
from vast_quarry.server.models import Job, Project
from vast_quarry.server.services.jobs import cancel_job, get_job, older_jobs, pause_job, recent_jobs

log = logging.getLogger(__name__)
router = strict.router("/api/v1/jobs", "jobs")


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
    #: which of its steps it is at, of so many
    step: int
    steps: int
    #: how far the whole of it is, 0 to 1; never less than before
    share: float
    #: of the whole
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
    def of(cls, job: Job) -> JobOut:
        """As the database has it now."""
        return cls.listed(job, job.params.get("layer"), {})

    @classmethod
    def listed(cls, job: Job, until: str | None, names: Mapping[int, str]) -> JobOut:
        """One of a list, whose parameters were not read; ``names`` are those of projects by their numbers."""
        told = {n: getattr(job, n) for n in cls.model_fields if n not in ("until", "project")}
        return cls.model_validate({**told, "until": until, "project": names.get(job.project_id, "")})


def _names(session: Session) -> dict[int, str]:
    return {int(k): str(v) for k, v in session.exec(select(Project.id, Project.name)) if k is not None}


@router.get("")
def list_jobs(
    session: Db,
    before: Annotated[int | None, Query(ge=1, description="Only jobs below this number")] = None,
    limit: Annotated[int, Query(ge=1, le=500, description="At most so many that are over")] = 30,
) -> list[JobOut]:
    """Jobs that run or wait, and recent ones that are over, newest first; with ``before`` a page of older ones."""
    names = _names(session)
    found = recent_jobs(session, limit) if before is None else older_jobs(session, before, limit)
    return [JobOut.listed(j, until, names) for j, until in found]


@router.get("/events", response_class=EventSourceResponse)
async def events(request: Request) -> EventSourceResponse:
    """Jobs whenever something changes, at least once a second while one runs; and which projects have changed."""

    teller: Teller = request.app.state.teller

    async def stream() -> AsyncIterator[dict[str, str]]:
        heard = (-1, -1)
        async with teller.listening():
            while not await request.is_disconnected():
                heard, news = await teller.since(heard)
                for event, data in news:
                    yield {"event": event, "data": data}

    return EventSourceResponse(stream(), ping=5)


@router.get("/{job_id}")
def one_job(job_id: int, session: Db) -> JobOut:
    """A job, however long ago it was."""
    job, until = get_job(session, job_id)
    return JobOut.listed(job, until, _names(session))


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


def _snapshot(engine: Engine) -> list[dict[str, Any]]:
    """Recent jobs, the time left of a running one counted down since its worker last spoke."""
    with Session(engine) as session:
        out, names = [], _names(session)
        for j, until in recent_jobs(session, 12):
            row = JobOut.listed(j, until, names).model_dump(mode="json")
            row["log"] = row["log"][-60:]
            if j.state == "running" and j.seconds_left and j.heartbeat:
                quiet = (datetime.now(UTC) - datetime.fromisoformat(j.heartbeat)).total_seconds()
                row["seconds_left"] = round(max(j.seconds_left - quiet, 0.1 * j.seconds_left, 1.0), 1)
            out.append(row)
        return out


#: the database is looked at so often (s), and while a job runs it is told of at least as often as that
LOOK, BEAT = 0.25, 0.7


class Teller:
    """Reads the jobs once for all who listen, and only when something was written since; nobody reads while nobody listens."""

    def __init__(self, app: FastAPI) -> None:
        self.app = app
        self.jobs, self.changes = "", ""
        #: how often each of the two was told anew
        self.counts = (0, 0)
        self._listeners = 0
        self._news: asyncio.Condition | None = None
        self._reading: asyncio.Task[None] | None = None

    @asynccontextmanager
    async def listening(self) -> AsyncIterator[None]:
        """For as long as somebody listens."""
        self._listeners += 1
        if self._reading is None or self._reading.done():
            self._news, self.jobs, self.changes, self.counts = asyncio.Condition(), "", "", (0, 0)
            self._reading = asyncio.create_task(self._read())
        try:
            yield
        finally:
            self._listeners -= 1
            if not self._listeners and self._reading is not None:
                self._reading.cancel()
                self._reading = None

    async def since(
        self, heard: tuple[int, int], patience: float = 1.0
    ) -> tuple[tuple[int, int], list[tuple[str, str]]]:
        """What is new to somebody who heard so much, after a while at most: nothing, when there is nothing."""
        assert self._news is not None
        async with self._news:
            with suppress(TimeoutError):
                await asyncio.wait_for(
                    self._news.wait_for(lambda: self.counts != heard and self.counts[0] > 0), patience
                )
            news = []
            if self.counts[0] != max(heard[0], 0):
                news.append(("jobs", self.jobs))
            if self.counts[1] != max(heard[1], 0):
                news.append(("changes", self.changes))
            return self.counts, news

    async def _read(self) -> None:
        version, told, running = -1, 0.0, False
        engine = self.app.state.engine
        # one connection of its own: it tells when any other has written
        with engine.connect() as watching:
            while True:
                try:
                    now = await asyncio.to_thread(_data_version, watching)
                    clock = time.monotonic()
                    jobs, changes = self.jobs, json.dumps(self.app.state.revisions)
                    # a heavy call may keep the worker silent: who watches still sees that it lives
                    beat = running and clock - told > BEAT
                    if now != version or beat:
                        listed = await asyncio.to_thread(_snapshot, engine)
                        version, running = now, any(j["state"] == "running" for j in listed)
                        jobs = json.dumps(listed)
                    if jobs != self.jobs or beat or not self.counts[0]:
                        told = clock
                        await self._tell((self.counts[0] + 1, self.counts[1]), jobs, self.changes)
                    if changes != self.changes:
                        await self._tell((self.counts[0], self.counts[1] + 1), self.jobs, changes)
                except SQLAlchemyError:
                    log.exception("the jobs could not be read")
                await asyncio.sleep(LOOK)

    async def _tell(self, counts: tuple[int, int], jobs: str, changes: str) -> None:
        assert self._news is not None
        async with self._news:
            self.counts, self.jobs, self.changes = counts, jobs, changes
            self._news.notify_all()


def _data_version(connection: Connection) -> int:
    """A number that changes whenever another connection has written to the database (SQLite, PRAGMA data_version)."""
    return int(connection.exec_driver_sql("PRAGMA data_version").scalar_one())
