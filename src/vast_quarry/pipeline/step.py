"""What a step is: one shape for every layer, from which command line, recipes and forms are derived."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Future, wait
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar, Protocol

from pydantic import BaseModel, ConfigDict, Field

from vast_quarry.core.progress import Cancelled, Progress
from vast_quarry.core.words import Said
from vast_quarry.pipeline.executors import LazyExecutor
from vast_quarry.pipeline.figures import Figures
from vast_quarry.pipeline.forecast import StageClock
from vast_quarry.pipeline.memory import give_back


def setting(
    default: Any,
    title: str,
    description: str,
    *,
    main: bool = False,
    unit: str = "",
    usual: tuple[float, float] | None = None,
    cost: str = "",
    labels: dict[str, str] | None = None,
    **rules: Any,
) -> Any:
    """Declare a setting that people see: page, command line and ``docs/settings.md`` all tell it from here.

    Parameters
    ----------
    default : Any
        Value in grade Dressed.
    title : str
        What it is called, in the words of the trade.
    description : str
        One sentence of what it does.
    main : bool
        Whether it is shown at once; the others are folded away.
    unit : str
        Unit of a number.
    usual : (float, float), optional
        Where sensible values lie; others are possible.
    cost : str
        What more of it takes.
    labels : dict, optional
        What the values of a choice are called.
    rules : Any
        Bounds, as pydantic has them.
    """
    extra: dict[str, Any] = {"main": main, "unit": unit, "usual": usual, "cost": cost, "labels": labels}
    return Field(default, title=title, description=description, json_schema_extra=extra, **rules)


class StepSettings(BaseModel):
    """Base of all settings: unknown names are errors, values cannot change afterwards."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    #: settings that came after results were made without them: as long as they are not touched, those results stay in force
    came_later: ClassVar[frozenset[str]] = frozenset()

    @property
    def untouched(self) -> set[str]:
        """Those of :attr:`came_later` that are as they are by default."""
        fields = type(self).model_fields
        return {
            name
            for name in self.came_later
            if getattr(self, name) == fields[name].get_default(call_default_factory=True)
        }


class Reporter(Protocol):
    """Told how far a run is; implemented by the command line and by jobs.

    A layer that begins is the ``number``-th ``of`` those that are to be made; ``left`` are seconds of the whole run.
    """

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None: ...
    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None: ...
    def end(self, layer: str, seconds: float, reused: bool) -> None: ...
    def say(self, text: str) -> None: ...


@dataclass
class Context:
    """What a running step has: where to write, its settings, its parents, and ways to report and to stop.

    ``lineage`` holds the folders of all versions that the parents were made from, and of theirs, by layer.
    """

    folder: Path
    settings: Any
    parents: dict[str, Path]
    layer: str
    reporter: Reporter
    executor: LazyExecutor
    cancelled: threading.Event = field(default_factory=threading.Event)
    findings: list[Said] = field(default_factory=list)
    clock: StageClock = field(default_factory=lambda: StageClock({}))
    lineage: dict[str, Path] = field(default_factory=dict)
    _last: float = 0.0
    _stage: str = ""
    _most: tuple[float, float] = (0.0, 0.0)

    def check(self) -> None:
        """Raise :class:`Cancelled` when the user wants to stop."""
        if self.cancelled.is_set():
            raise Cancelled

    def stage(self, text: str, done: float, total: float) -> None:
        """Report progress within a named stage of the step; reports closer than a fifth of a second are dropped."""
        self.check()
        now = time.monotonic()
        if text == self._stage and total == self._most[1]:
            done = max(done, self._most[0])  # what is tried again was done before
        self._most = (done, total)
        if now - self._last > 0.2 or done >= total or done == 0 or text != self._stage:
            if text != self._stage:
                # what the stage before let go lies idle otherwise: of a surface out of 1.7 million points 700 MB
                give_back()
            self._stage = text
            self._last = now
            self.reporter.stage(self.layer, text, done, total, self.clock.note(text, done, total))

    def progress(self, text: str) -> Progress:
        """A progress callback for the core that reports as a stage."""

        def report(done: float, total: float) -> None:
            self.stage(text, done, total)

        return report

    def found(self, sentence: str) -> None:
        """Note something the user should know."""
        said = sentence if isinstance(sentence, Said) else Said(sentence)
        self.findings.append(said)
        self.reporter.say(said)

    def each(
        self,
        text: str,
        work: Callable[..., Any],
        jobs: Iterable[tuple],
        patience: float | None = None,
        memory: Iterable[float] | None = None,
    ) -> list[Any]:
        """Run ``work(*job)`` for every job on the executor, reporting; results in the order of the jobs.

        Units write their results under a temporary name and rename them, and skip what is there already, so a killed
        run goes on where it stopped. With ``memory`` (bytes that each job takes) no more are at work at once than the machine
        has room for.

        Raises
        ------
        Hanging
            When none ended for ``patience`` seconds; the processes are ended.
        """
        todo = list(jobs)
        results: list[Any] = [None] * len(todo)
        if not todo:
            return results
        self.stage(text, 0, len(todo))
        pool = self.executor()
        photos = getattr(self.settings, "folder", None)
        pool.check(self.folder, Path(photos) if photos else None)
        room = pool.room() if memory is not None else float("inf")
        takes = list(memory) if memory is not None else [0.0] * len(todo)
        waiting: dict[Future, int] = {}
        queue = list(range(len(todo)))

        def submit() -> None:
            """Hand over what there is room for; one at least."""
            while queue and (not waiting or sum(takes[n] for n in waiting.values()) + takes[queue[0]] <= room):
                n = queue.pop(0)
                waiting[pool.submit(work, *todo[n])] = n

        submit()
        done, last = 0, time.monotonic()
        try:
            while waiting:
                ready, _ = wait(waiting, timeout=0.5, return_when=FIRST_COMPLETED)
                last = time.monotonic() if ready else last
                if patience is not None and time.monotonic() - last > patience:
                    self.executor.close(at_once=True)
                    raise Hanging(text)
                for future in ready:
                    results[waiting.pop(future)] = future.result()
                    done += 1
                submit()
                self.stage(text, done, len(todo))
        except BaseException:
            for future in waiting:
                future.cancel()
            raise
        return results


class Hanging(BrokenExecutor):
    """Units that do not end."""


class Step(Protocol):
    """A layer's computation."""

    #: name of the layer, as in folders and recipes
    layer: ClassVar[str]
    #: what the user sees
    title: ClassVar[str]
    #: layers whose versions in use it takes
    parents: ClassVar[tuple[str, ...]]
    settings_model: ClassVar[type[StepSettings]]

    def run(self, context: Context) -> Figures:
        """Compute into ``context.folder``; returns the figures."""
        ...
