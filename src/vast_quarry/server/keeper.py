"""Keeps a worker alive, and ends it when it does not stop by itself.

Much of the heavy work is single calls into compiled code that cannot look for a cancel flag. Whatever a job has
finished is safe on disk, so a worker that does not answer a cancel is simply killed and another one started.
"""

from __future__ import annotations

import contextlib
import logging
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session, col, select

from vast_quarry.server.models import Job
from vast_quarry.server.services.jobs import note_death, stopped

log = logging.getLogger(__name__)

#: time a job has for stopping by itself (seconds)
PATIENCE = 1.1
LOOK = 0.2


class Keeper:
    """One worker process, watched."""

    def __init__(self, engine: Engine, data: Path) -> None:
        self.engine = engine
        self.command = [
            sys.executable,
            "-m",
            "vast_quarry.server.worker",
            "--data",
            str(data),
            "--parent",
            str(os.getpid()),
        ]
        self._over = threading.Event()
        self._worker = self._start()
        self._ended: list[float] = []
        self._unwanted: tuple[int, float] | None = None
        self._noted: int | None = None
        self._thread = threading.Thread(target=self._watch, daemon=True, name="keeper")
        self._thread.start()

    def _start(self) -> subprocess.Popen[bytes]:
        # a session of its own, so that its helpers can be ended with it
        return subprocess.Popen(self.command, start_new_session=True)

    def _watch(self) -> None:
        while not self._over.wait(LOOK):
            try:
                self._look()
            except (SQLAlchemyError, OSError, subprocess.SubprocessError):
                # the keeper outlives a database that cannot be used for a while: nobody else would watch the worker
                log.exception("the keeper could not look after the worker")
                self._over.wait(2.0)

    def _look(self) -> None:
        if self._worker.poll() is not None:
            self._note_death()
            self._restart()
        unwanted = self._unwanted_job()
        if unwanted is None:
            self._unwanted = None
        elif self._unwanted is None or self._unwanted[0] != unwanted:
            self._unwanted = (unwanted, time.monotonic())
        elif time.monotonic() - self._unwanted[1] > PATIENCE:
            self._kill()
            self._note_stopped(unwanted)
            self._unwanted = None
            self._restart()

    def _note_death(self) -> None:
        """A worker that ended by itself may have been taken down by its job."""
        log.error("the worker ended with %s", self._worker.returncode)
        if self._over.is_set() or self._noted == self._worker.pid:
            return
        with Session(self.engine) as session:
            note_death(session)
        self._noted = self._worker.pid

    def _unwanted_job(self) -> int | None:
        """A job that runs though its user cancelled it."""
        with Session(self.engine) as session:
            unwanted = select(Job.id).where(Job.state == "running", col(Job.cancel)).order_by(col(Job.id))
            return session.exec(unwanted).first()

    def _note_stopped(self, job_id: int) -> None:
        with Session(self.engine) as session:
            job = session.get(Job, job_id)
            if job is not None and job.state == "running":
                stopped(job)
                session.add(job)
                session.commit()

    def _restart(self) -> None:
        now = time.monotonic()
        self._ended = [t for t in self._ended if now - t < 60] + [now]
        # a worker that dies again and again must not keep the machine busy
        if not self._over.wait(min(10.0, 0.2 * 2 ** len(self._ended) - 0.4)):
            self._worker = self._start()

    def _kill(self) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self._worker.pid, signal.SIGKILL)
        self._worker.wait(5)

    def close(self) -> None:
        """End the worker."""
        self._over.set()
        self._thread.join(2)
        if self._worker.poll() is None:
            self._worker.send_signal(signal.SIGTERM)
            with contextlib.suppress(subprocess.TimeoutExpired):
                self._worker.wait(1)
        self._kill()
