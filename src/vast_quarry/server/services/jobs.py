"""Jobs as rows: queue, progress, cancel, what happens after a kill."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from sqlmodel import Session, col, select

from vast_quarry.server.models import Job, now
from vast_quarry.server.services.folders import NotFound

#: a running job whose worker has said nothing for so long is taken for dead (seconds)
SILENCE = 20.0

#: a job whose worker was killed so often is given up
TRIES = 3
LOST = "The worker stopped; the job goes on where it was."
STOPPED = "Stopped. What was finished is kept."


def add_job(session: Session, project_id: int, kind: str, params: dict[str, Any]) -> Job:
    """Queue a job."""
    job = Job(project_id=project_id, kind=kind, params=params)
    session.add(job)
    session.commit()
    session.refresh(job)
    return job


def next_job(session: Session) -> Job | None:
    """Take the oldest queued job, and mark it running."""
    job = session.exec(select(Job).where(Job.state == "queued").order_by(col(Job.id))).first()
    if job is None:
        return None
    job.state, job.started, job.heartbeat = "running", now(), now()
    session.add(job)
    session.commit()
    session.refresh(job)
    return job


def requeue_lost(session: Session, silence: float = SILENCE) -> int:
    """Queue again what a killed worker left running; results so far are found again by the run.

    A job that was lost too often is given up: it would take the worker down for ever.
    """
    limit = (datetime.now(UTC) - timedelta(seconds=silence)).isoformat(timespec="milliseconds")
    lost = session.exec(select(Job).where(Job.state == "running", col(Job.heartbeat) <= limit)).all()
    for job in lost:
        if job.cancel:
            stopped(job)
        elif job.log.count(LOST) + 1 >= TRIES:
            job.state, job.ended = "failed", now()
            job.message = (
                f"The worker was killed {TRIES} times over this, most likely for want of memory. "
                "Close other programs or use a lower grade; what was finished is kept."
            )
        else:
            job.state = "queued"
            job.log = [*job.log, LOST]
        session.add(job)
    session.commit()
    return len(lost)


def stopped(job: Job) -> None:
    """Note that a job was stopped because its user wanted it."""
    job.state, job.message, job.ended, job.seconds_left = "cancelled", STOPPED, now(), None


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
    job.pause, job.message = pause, "" if not pause else job.message
    session.add(job)
    session.commit()
    session.refresh(job)
    return job


def recent_jobs(session: Session, limit: int = 30) -> list[Job]:
    """Jobs that run or wait, and the latest that are over."""
    return list(session.exec(select(Job).order_by(col(Job.id).desc()).limit(limit)).all())
