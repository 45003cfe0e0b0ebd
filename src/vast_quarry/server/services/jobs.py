"""Jobs as rows: queue, progress, cancel, what happens after a kill."""

from __future__ import annotations

import threading
import time
from collections.abc import Collection
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import func, update
from sqlalchemy.orm import defer
from sqlmodel import Session, col, select

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import Said
from vast_quarry.server.models import Job, Project, now
from vast_quarry.server.services.folders import NotFound
from vast_quarry.server.services.layers import recipe_of

#: a job whose worker was killed so often is given up
TRIES = 3
LOST = "The worker stopped; the job goes on where it was."
#: small jobs that are asked for many times in an evening, and how long one that was done stays in the list
SMALL = ("edit", "parcel")
SMALL_TOLD = timedelta(seconds=20)
#: states of jobs that are not over
ALIVE = ("queued", "running")
STOPPED = "Stopped. What was finished is kept."


#: jobs of which two with the same parameters, one after the other, do more than one
EACH = ("edit", "shoot")
#: jobs that bring photos: runs of the same project that are asked for later wait for them
BRINGS = ("bring", "frames")
_adding = threading.Lock()


def add_job(session: Session, project_id: int, kind: str, params: dict[str, Any]) -> Job:
    """Queue a job, or give the one that waits or runs for just the same: asking twice makes one job."""
    with _adding:
        same = None if kind in EACH else _same_job(session, project_id, kind, params)
        if same is not None:
            return same
        job = Job(project_id=project_id, kind=kind, params=params)
        session.add(job)
        session.commit()
    session.refresh(job)
    return job


def _same_job(session: Session, project_id: int, kind: str, params: dict[str, Any]) -> Job | None:
    mine = select(Job).where(
        Job.project_id == project_id, Job.kind == kind, col(Job.state).in_(ALIVE), col(Job.cancel).is_(False)
    )
    return next((j for j in session.exec(mine) if j.params == params), None)


def brings_photos(session: Session, project_id: int) -> bool:
    """Whether a job is about to bring photos into a project."""
    mine = select(Job.id).where(Job.project_id == project_id, col(Job.kind).in_(BRINGS), col(Job.state).in_(ALIVE))
    return session.exec(mine.limit(1)).first() is not None


def add_run(
    session: Session,
    project: Project,
    layer: str,
    everything: bool = False,
    settings: dict[str, dict[str, Any]] | None = None,
) -> Job:
    """Queue a run with the settings as they are now, or give the one that waits or runs with just these.

    What is changed while the job waits is for a later run. With ``settings`` those of the layers named there are these instead.
    """
    assert project.id is not None
    recipe = recipe_of(project).model_dump(mode="json")
    recipe["layers"].update(settings or {})
    params = {"layer": layer, "everything": everything, "recipe": recipe, "left_out": list(project.left_out)}
    return add_job(session, project.id, "run", params)


#: lanes of jobs
LANES = ("run", "shoot", "model", "light")


def lane_of(kind: str) -> str:
    """Jobs of one lane wait for each other; shoots wait only for those of their own project."""
    return {"run": "run", "shoot": "shoot", "edit": "model", "parcel": "model"}.get(kind, "light")


def next_job(session: Session, busy: Collection[str] = (), lane: str | None = None) -> Job | None:
    """Take a queued job of a lane that is free, or of the one named, and mark it running; one is never taken twice, whoever asks.

    The oldest is taken, but of the project whose last job of that lane began longest ago: one project's many do not hold
    up another's.
    """
    while True:
        queued = [
            j
            for j in session.exec(select(Job).where(Job.state == "queued"))
            if lane_of(j.kind) not in busy and lane in (None, lane_of(j.kind))
        ]
        # two shoots of one project would give their photos the same names
        going = select(Job.project_id).where(Job.kind == "shoot", Job.state == "running")
        shooting = set(session.exec(going).all())
        queued = [j for j in queued if j.kind != "shoot" or j.project_id not in shooting]
        # what a run was asked for with are photos that may still be coming
        coming = select(Job.project_id, Job.id).where(col(Job.kind).in_(BRINGS), col(Job.state).in_(ALIVE))
        brings = session.exec(coming).all()
        queued = [
            j
            for j in queued
            if j.kind != "run" or not any(p == j.project_id and (k or 0) < (j.id or 0) for p, k in brings)
        ]
        if not queued:
            return None
        begun = dict(session.exec(select(Job.project_id, func.max(Job.started)).group_by(col(Job.project_id))).all())
        first = min(queued, key=lambda j: (begun[j.project_id] or "", j.id or 0))
        claim = (
            update(Job)
            .where(col(Job.id) == first.id, col(Job.state) == "queued")
            .values(state="running", started=now(), heartbeat=now())
        )
        taken = session.exec(claim).rowcount
        session.commit()
        if taken:
            session.refresh(first)
            return first


def requeue_lost(session: Session, besides: Collection[int] = (), lane: str | None = None) -> int:
    """Queue again what runs by the book while no worker is at it; what was finished is found again by the run.

    To be called by the worker, with the jobs it is at: it is the only one of its data folder, or of its lane there, so no clock
    is needed.
    """
    running = session.exec(select(Job).where(Job.state == "running"))
    lost = [j for j in running if j.id not in besides and lane in (None, lane_of(j.kind))]
    for job in lost:
        if job.cancel:
            stopped(job)
        elif job.deaths >= TRIES:
            job.state, job.ended, job.pause = "failed", now(), False
            job.message = Said(
                "The worker died several times over this, most likely for want of memory. "
                "Close other programs or use a lower grade; what was finished is kept."
            )
        else:
            job.state = "queued"
            job.log = [*job.log, Said(LOST)]
        session.add(job)
    session.commit()
    return len(lost)


def note_death(session: Session, lane: str) -> None:
    """The worker of a lane died by itself: the job it was at may be why. Ends of the machine or the server are not counted."""
    for job in session.exec(select(Job).where(Job.state == "running", col(Job.cancel).is_(False))):
        if lane_of(job.kind) == lane:
            job.deaths += 1
            session.add(job)
    session.commit()


def stopped(job: Job) -> None:
    """Note that a job was stopped because its user wanted it."""
    job.state, job.message, job.ended, job.seconds_left = "cancelled", Said(STOPPED), now(), None


def cancel_job(session: Session, job_id: int) -> Job:
    """Ask a job to stop.

    Raises
    ------
    NotFound
        When there is none.
    """
    job = session.get(Job, job_id)
    if job is None:
        raise NotFound("This job is no longer there.")
    if job.state == "queued":
        job.state, job.ended = "cancelled", now()
    job.cancel = True
    session.add(job)
    session.commit()
    session.refresh(job)
    return job


def stop_all(session: Session, project_id: int, patience: float = 10.0) -> None:
    """Stop all jobs of a project, and wait until none of them is at work.

    Raises
    ------
    PlainError
        When one does not stop.
    """
    mine = col(Job.project_id) == project_id
    session.exec(update(Job).where(mine, col(Job.state) == "running").values(cancel=True))
    ended = {"state": "cancelled", "message": STOPPED, "ended": now()}
    session.exec(update(Job).where(mine, col(Job.state) == "queued").values(cancel=True, **ended))
    session.commit()
    until = time.monotonic() + patience
    while session.exec(select(Job.id).where(mine, Job.state == "running").limit(1)).first() is not None:
        session.rollback()  # to see what others write
        if time.monotonic() > until:
            raise PlainError(
                "A job of this project does not stop.", "Wait a moment and try again; nothing was removed."
            )
        time.sleep(0.1)


def pause_job(session: Session, job_id: int, pause: bool) -> Job:
    """Ask a shoot to wait, or to go on.

    Raises
    ------
    NotFound
        When there is none that runs or waits.
    """
    job = session.get(Job, job_id)
    if job is None or job.kind != "shoot" or job.state not in ("running", "queued"):
        raise NotFound("There is no shoot that could wait or go on.")
    job.pause, job.message = pause, Said("") if not pause else job.message
    session.add(job)
    session.commit()
    session.refresh(job)
    return job


def recent_jobs(session: Session, limit: int = 30) -> list[tuple[Job, str | None]]:
    """All jobs that run or wait, and the latest of those that are over, newest first, each with the layer up to which it goes.

    Small ones that were done are told for a while only: who waits for one hears of it, and they do not crowd the others out.
    """
    alive = col(Job.state).in_(ALIVE)
    newest = col(Job.id).desc()
    going = session.exec(_listed().where(alive).order_by(newest)).all()
    lately = (datetime.now(UTC) - SMALL_TOLD).isoformat(timespec="milliseconds")
    told = col(Job.kind).not_in(SMALL) | (col(Job.state) != "done") | (col(Job.ended) > lately)
    over = session.exec(_listed().where(~alive, told).order_by(newest).limit(limit)).all()
    return sorted(((job, until) for job, until in (*going, *over)), key=lambda row: -(row[0].id or 0))


def older_jobs(session: Session, before: int, limit: int) -> list[tuple[Job, str | None]]:
    """Jobs with numbers below one, newest first."""
    rows = session.exec(_listed().where(col(Job.id) < before).order_by(col(Job.id).desc()).limit(limit)).all()
    return [(job, until) for job, until in rows]


def get_job(session: Session, job_id: int) -> tuple[Job, str | None]:
    """A job, and the layer up to which it goes.

    Raises
    ------
    NotFound
        When there is none.
    """
    row = session.exec(_listed().where(col(Job.id) == job_id)).first()
    if row is None:
        raise NotFound("This job is no longer there.")
    return row[0], row[1]


def _listed() -> Any:
    # of all that a run was asked for with, which may be megabytes, only how far it goes is read
    return select(Job, func.json_extract(Job.params, "$.layer")).options(defer(Job.params))  # type: ignore[arg-type]
