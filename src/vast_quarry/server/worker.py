"""The worker: a process of its own that runs jobs in order."""

from __future__ import annotations

import argparse
import logging
import os
import signal
import threading
import time
from concurrent.futures import InvalidStateError
from pathlib import Path

from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.lock import release, wait_for
from vast_quarry.core.progress import Cancelled
from vast_quarry.core.words import Said, say, together
from vast_quarry.pipeline.recipe import Recipe
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.sentence import sentence
from vast_quarry.server.database import open_database
from vast_quarry.server.log import write_log
from vast_quarry.server.models import Job, Project, now
from vast_quarry.server.services import bringing, dispatch, drafts, videos
from vast_quarry.server.services.ending import end_of_run
from vast_quarry.server.services.folders import Folders, folders_of
from vast_quarry.server.services.jobs import STOPPED, lane_of, next_job, requeue_lost
from vast_quarry.server.services.judging import judge_project, proposed_out
from vast_quarry.server.services.layers import keep_as_judged, no_longer_there, places_of, recipe_of
from vast_quarry.server.services.pictures import sets_of
from vast_quarry.server.services.shooting import shoot_project
from vast_quarry.server.services.world import make_ready

log = logging.getLogger(__name__)


class JobReporter:
    """Writes progress into the job's row, at most four times a second, and looks for the cancel flag."""

    def __init__(self, engine: Engine, job_id: int, cancelled: threading.Event) -> None:
        self.engine, self.job_id, self.cancelled = engine, job_id, cancelled
        self._last = 0.0
        self._stage = ""
        self._left: tuple[float, float] | None = None
        self._paused = False
        self._began, self._share = time.monotonic(), 0.0
        self._lock = threading.Lock()

    def write(self, **values: object) -> None:
        """Write some columns, and the heartbeat."""
        with self._lock, Session(self.engine) as session:
            job = session.get(Job, self.job_id)
            if job is None:  # the project was removed while its job ran
                self.cancelled.set()
                return
            if job.cancel:
                self.cancelled.set()
            self._paused = bool(values.get("pause", job.pause))
            line = values.pop("line", None)
            if line:
                job.log = [*job.log, sentence(line)][-400:]
            for k, v in values.items():
                setattr(job, k, v)
            job.heartbeat = now()
            session.add(job)
            session.commit()

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None:
        """A step begins."""
        self._stage = ""
        self.write(layer=layer, stage="", done=0, total=0, step=number, steps=of, line=say("{layer} …", layer=title))

    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None:
        """Progress within a stage."""
        clock = time.monotonic()
        fresh = text != self._stage
        if not fresh and clock - self._last < 0.25 and done < total:
            return
        self._stage, self._last, self._left = text, clock, None if left is None else (clock, left)
        extra = {"line": text} if fresh else {}
        self.write(
            layer=layer, stage=text, done=done, total=total, seconds_left=left, share=self._so_far(done, total), **extra
        )  # fmt: skip

    def _so_far(self, done: float, total: float) -> float:
        """How far the whole is, by the time it takes; of a job that foretells none, by what it counts."""
        spent = time.monotonic() - self._began
        if self._left is not None:
            share = spent / max(spent + self._left[1], 1e-9)
        else:
            share = done / total if total > 0 else 0.0
        self._share = max(self._share, min(share, 0.99))
        return self._share

    def beat(self) -> None:
        """Sign of life between reports; the time left runs on meanwhile."""
        if self._left is None:
            self.write()
        else:
            at, left = self._left
            # what takes longer than foretold is never told to be over now
            self.write(seconds_left=max(left - (time.monotonic() - at), 0.1 * left, 1.0))

    def end(self, layer: str, seconds: float, reused: bool) -> None:
        """A step is done."""
        self.write(line="as before" if reused else say("done in {seconds} s", seconds=round(seconds, 1)))

    def pause(self, message: str) -> None:
        """Wait for somebody to see to it."""
        self.write(pause=True, message=message, seconds_left=None, line=message)

    def paused(self) -> bool:
        """Whether the job waits."""
        self.write()
        return self._paused

    def say(self, text: str) -> None:
        """A finding."""
        self.write(line=text)


def run_job(engine: Engine, data: Path, job: Job) -> None:
    """Run one job to its end, whatever the end is."""
    assert job.id is not None
    cancelled = threading.Event()
    reporter = JobReporter(engine, job.id, cancelled)
    over = threading.Event()

    def beat() -> None:
        while not over.wait(0.8):
            try:
                reporter.beat()
            except SQLAlchemyError:  # a disk that is full now may not be in a second
                log.exception("the job's progress could not be written")

    threading.Thread(target=beat, daemon=True).start()
    state, message = "done", Said("")
    try:
        with Session(engine) as session:
            project = session.get(Project, job.project_id)
        if project is None:
            raise Cancelled
        folders = folders_of(data, job.project_id)
        message = do_job(engine, folders, project, job, reporter, cancelled)
    except Cancelled:
        state, message = "cancelled", Said(STOPPED)
    except PlainError as error:
        state, message = "failed", error.said
    except Exception as error:
        log.exception("job %s (%s) failed", job.id, job.kind)
        state, message = "failed", _inside(error)
    finally:
        over.set()
    _until_written(
        reporter,
        state=state,
        message=message,
        pause=False,
        ended=now(),
        seconds_left=None,
        line=message or Said("Done"),
    )


def do_job(
    engine: Engine, folders: Folders, project: Project, job: Job, reporter: JobReporter, cancelled: threading.Event
) -> Said:
    """Do what a job is there for; what it made, in words.

    Raises
    ------
    PlainError
        When it cannot be done.
    Cancelled
        When it was stopped.
    """
    assert job.id is not None
    match job.kind:
        case "run":
            return _run_layers(folders, project, job, reporter, cancelled)
        case "shoot":
            count = shoot_project(folders, job.id, job.params, reporter, cancelled)
            return say("{count, plural, one {# photo} other {# photos}} shot.", count=count)
        case "look":
            videos.look(folders, str(job.params["name"]), reporter, cancelled)
        case "frames":
            choice = videos.ChoiceIn.model_validate(job.params["choice"])
            count = videos.take(folders, str(job.params["name"]), choice, reporter, cancelled)
            return say("{count, plural, one {# frame} other {# frames}} taken.", count=count)
        case "bring":
            brought = bringing.bring_folder(
                folders, str(job.params["path"]), bool(job.params["copy_files"]), reporter, cancelled
            )
            for refused in brought.refused[: bringing.NAMED]:
                reporter.say(together([refused.name, refused.why], ": "))
            return bringing.brought_said(brought)
        case "judge":
            count, doubted = judge_project(folders, reporter, cancelled)
            return say(
                "{count, plural, one {# photo} other {# photos}} judged: {doubted, plural, =0 {all are good} other {# to look at}}.",
                count=count,
                doubted=doubted,
            )
        case "edit":
            drafts.make_draft(engine, folders, job, reporter, cancelled)
        case "parcel":
            dispatch.make_parcel(folders, job.params, reporter)
        case _:
            raise PlainError(say("There is no job called {kind}.", kind=job.kind))
    return Said("")


def _run_layers(
    folders: Folders, project: Project, job: Job, reporter: JobReporter, cancelled: threading.Event
) -> Said:
    runner = Runner(folders.store, reporter)
    runner.cancelled = cancelled
    recipe = Recipe.model_validate(job.params["recipe"]) if "recipe" in job.params else recipe_of(project)
    if job.params.get("everything") and (out := proposed_out(folders, job.params.get("left_out", project.left_out))):
        # nobody has decided about these: what judging proposes counts, and is said
        recipe.layers["photos"]["judged_out"] = sorted(out)
        reporter.say(say("Left out as judging proposes: {list}.", list=", ".join(out)))
    for name in no_longer_there(project):
        reporter.say(say("The setting {name} is of another version of the program and is passed over.", name=name))
    if not job.params.get("everything"):
        keep_as_judged(recipe, folders, project)
    places = places_of(folders)
    if recipe.layers.get("cameras", {}).get("sets_apart"):
        places["cameras"] = {"sets": sets_of(project, folders)}
    done = runner.run(recipe, places, until=str(job.params["layer"]), from_in_use=not job.params.get("everything"))
    for k, layer in enumerate(done.versions):
        reporter.stage("", "Pictures for the page", k, len(done.versions))
        make_ready(folders, layer)
    return end_of_run(done)


def _inside(error: BaseException) -> Said:
    """What is told of a mistake in the program itself; more stands in the log file."""
    return say("Something went wrong inside the program ({what}).", what=f"{type(error).__name__}: {error}")


def _until_written(reporter: JobReporter, **values: object) -> None:
    """Write how a job ended, however long the database cannot be written: a job that is over must not run again."""
    while True:
        try:
            reporter.write(**values)
            return
        except SQLAlchemyError:
            log.exception("the end of a job could not be written; trying again")
            time.sleep(2.0)


def end_with(parent: int) -> None:
    """End this process and all its helpers as soon as its server is gone, also in the middle of a job."""

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(0.3)
        log.error("the server is gone; the worker ends")
        os.killpg(0, signal.SIGKILL)

    threading.Thread(target=watch, daemon=True, name="watch of the server").start()


class Lanes:
    """Jobs under way side by side: one run, one edit, one light job, and shoots, which mostly wait for devices or people; or those
    of one lane only."""

    def __init__(self, engine: Engine, data: Path, lane: str | None = None) -> None:
        self.engine, self.data, self.lane = engine, data, lane
        self.going: dict[int, tuple[str, threading.Thread]] = {}

    def start(self) -> bool:
        """Begin a job that may begin now, if there is one."""
        self.going = {k: v for k, v in self.going.items() if v[1].is_alive()}
        taken = {lane_of(kind) for kind, _ in self.going.values()} - {"shoot"}
        with Session(self.engine) as session:
            requeue_lost(session, besides=self.going, lane=self.lane)
            job = next_job(session, taken, self.lane)
        if job is None or job.id is None:
            return False
        thread = threading.Thread(target=run_job, args=(self.engine, self.data, job), name=f"job {job.id}", daemon=True)
        self.going[job.id] = (job.kind, thread)
        thread.start()
        return True


def work(data: Path, parent: int | None = None, once: bool = False, lane: str | None = None) -> None:
    """Run jobs, those of one lane or of all, until told to stop, or with ``once`` until none is left."""
    engine = open_database(data, migrate=parent is None)
    lanes = Lanes(engine, data, lane)
    while parent is None or os.getppid() == parent:
        busy = any(thread.is_alive() for _, thread in lanes.going.values())
        try:
            if lanes.start():
                continue
        except SQLAlchemyError:
            log.exception("the list of jobs cannot be read or written")
            time.sleep(2.0)
        if once and not busy:  # none was at work when there was nothing left to begin
            return
        time.sleep(0.02 if once else 0.15)


def quiet_when_stopping(args: threading.ExceptHookArgs) -> None:
    """Pools that are ended in the middle of their work complain about futures that were cancelled: nobody needs that."""
    if not issubclass(args.exc_type, InvalidStateError):
        threading.__excepthook__(args)


def main() -> None:
    """Way in of a worker of all lanes by itself; those of a server are split off by lane (:mod:`vast_quarry.server.lanes`)."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--data", type=Path, required=True)
    a = parser.parse_args()
    # Ctrl-C is the server's to hear; what is asked to end ends at once, its units are safe on disk
    signal.signal(signal.SIGTERM, lambda *_: os._exit(0))
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.excepthook = quiet_when_stopping
    write_log(a.data, "worker")
    # a worker of a server that was killed may need a moment to end
    handle = wait_for(a.data / "worker.lock")
    log.info("worker %s begins", os.getpid())
    work(a.data)
    release(handle)


if __name__ == "__main__":
    main()
