"""Keeps the workers of all lanes alive, and ends one that does not stop by itself.

Much of the heavy work is single calls into compiled code that cannot look for a cancel flag. Whatever a job has
finished is safe on disk, so a worker that does not answer a cancel is simply killed and another one started; those of the
other lanes go on.
"""

from __future__ import annotations

import contextlib
import logging
import os
import select
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session, col
from sqlmodel import select as choose

from vast_quarry.server.models import Job
from vast_quarry.server.services.jobs import ALIVE, lane_of, note_death, stopped

log = logging.getLogger(__name__)

#: time a job has for stopping by itself (seconds)
PATIENCE = 1.1
LOOK = 0.2
#: time that splitting off a worker may take before its template is taken for dead (s): it may still be loading
SPLIT = 120.0


class Keeper:
    """Worker processes, one for each lane that has work, watched."""

    def __init__(self, engine: Engine, data: Path) -> None:
        self.engine = engine
        self.command = [sys.executable, "-m", "vast_quarry.server.lanes", "--data", str(data)]
        self._over = threading.Event()
        self._template = self._load()
        #: process of each lane that has one
        self.workers: dict[str, int] = {}
        self._ended: dict[str, list[float]] = {}
        self._unwanted: dict[int, float] = {}
        self._thread = threading.Thread(target=self._watch, daemon=True, name="keeper")
        self._thread.start()

    def _load(self) -> subprocess.Popen[str]:
        return subprocess.Popen(
            self.command, start_new_session=True, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def _watch(self) -> None:
        while not self._over.wait(LOOK):
            try:
                self._look()
            except (SQLAlchemyError, OSError, subprocess.SubprocessError):
                # the keeper outlives a database that cannot be used for a while: nobody else would watch the workers
                log.exception("the keeper could not look after the workers")
                self._over.wait(2.0)

    def _look(self) -> None:
        if self._template.poll() is not None:
            log.error("the template of workers ended with %s", self._template.returncode)
            self._end_all()
            self._template = self._load()
        for lane, pid in list(self.workers.items()):
            if not _alive(pid):
                self._note_death(lane)
        with Session(self.engine) as session:
            going = session.exec(choose(Job.id, Job.kind, Job.state, Job.cancel).where(col(Job.state).in_(ALIVE))).all()
        now = time.monotonic()
        unwanted = {int(i): lane_of(kind) for i, kind, state, cancel in going if i and state == "running" and cancel}
        self._unwanted = {i: self._unwanted.get(i, now) for i in unwanted}
        for i, since in self._unwanted.items():
            if now - since > PATIENCE:
                self._kill(unwanted[i])
                self._note_stopped(i)
        for lane in {lane_of(kind) for _, kind, _, _ in going} - set(self.workers):
            self._split_off(lane)

    def _split_off(self, lane: str) -> None:
        """Have a lane get a worker; one that dies again and again must not keep the machine busy."""
        now = time.monotonic()
        lately = [t for t in self._ended.get(lane, []) if now - t < 60]
        if lately and now - lately[-1] < min(10.0, 0.2 * 2 ** len(lately) - 0.4):
            return
        told, heard = self._template.stdin, self._template.stdout
        assert told is not None
        assert heard is not None
        told.write(f"{lane}\n")
        told.flush()
        until = time.monotonic() + SPLIT
        while not select.select([heard], [], [], LOOK)[0]:
            if self._over.is_set() or self._template.poll() is not None:
                return
            if time.monotonic() > until:
                self._template.kill()
                return
        line = heard.readline().strip()
        if line.isdecimal():
            self.workers[lane] = int(line)

    def _note_death(self, lane: str) -> None:
        """A worker that ended by itself may have been taken down by its job."""
        log.error("the worker of the lane %s ended", lane)
        self._ended[lane] = [*self._ended.get(lane, []), time.monotonic()]
        if not self._over.is_set():
            with Session(self.engine) as session:
                note_death(session, lane)
        del self.workers[lane]

    def _note_stopped(self, job_id: int) -> None:
        with Session(self.engine) as session:
            job = session.get(Job, job_id)
            if job is not None and job.state == "running":
                stopped(job)
                session.add(job)
                session.commit()

    def _kill(self, lane: str) -> None:
        pid = self.workers.pop(lane, None)
        if pid is None:
            return
        with contextlib.suppress(ProcessLookupError):
            os.killpg(pid, signal.SIGKILL)
        until = time.monotonic() + 5
        while _alive(pid) and time.monotonic() < until:
            time.sleep(0.02)

    def _end_all(self) -> None:
        for lane in list(self.workers):
            self._kill(lane)

    def close(self) -> None:
        """End the workers."""
        self._over.set()
        self._thread.join(2)
        self._end_all()
        self._template.kill()
        for pipe in (self._template.stdin, self._template.stdout):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._template.wait(5)


def _alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    return True
