"""Progress on the command line: bars at a terminal, plain lines elsewhere."""

from __future__ import annotations

import time

from rich.console import Console
from rich.progress import BarColumn, Progress, TaskID, TextColumn, TimeElapsedColumn, TimeRemainingColumn

from vast_quarry.cli.language import told
from vast_quarry.core.words import say


class BarReporter:
    """A bar for each step at a terminal."""

    def __init__(self, console: Console) -> None:
        self.progress = Progress(
            TextColumn("[bold]{task.fields[layer]:<8}"), BarColumn(bar_width=28), TextColumn("{task.description}"),
            TimeElapsedColumn(), TimeRemainingColumn(), console=console,
        )  # fmt: skip
        self._task: TaskID | None = None
        self._stage = ""

    def __enter__(self) -> BarReporter:
        self.progress.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.progress.stop()

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None:
        """A step begins."""
        self._task = self.progress.add_task("", total=1, layer=told(title))
        self._stage = ""

    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None:
        """Progress within a stage of the step."""
        if self._task is None:
            return
        if text != self._stage:
            self._stage = text
            self.progress.reset(self._task, total=total, description=told(text))
        text = told(text)
        label = f"{text} {done:.0f}/{total:.0f}" if total > 1 else text
        self.progress.update(self._task, completed=done, total=total, description=label)

    def end(self, layer: str, seconds: float, reused: bool) -> None:
        """A step is done."""
        if self._task is not None:
            text = told("as before") if reused else f"{seconds:.1f} s"
            self.progress.update(self._task, completed=1, total=1, description=text)

    def say(self, text: str) -> None:
        """A finding."""
        self.progress.console.print(told(text), markup=False, highlight=False)


class PlainReporter:
    """Lines of text, not more than one in five seconds for each stage."""

    def __init__(self, console: Console) -> None:
        self.console = console
        self._stage, self._last = "", 0.0

    def __enter__(self) -> PlainReporter:
        return self

    def __exit__(self, *_: object) -> None:
        return None

    def _line(self, text: str) -> None:
        self.console.print(text, markup=False, highlight=False, soft_wrap=True)

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None:
        """A step begins."""
        self._stage = ""
        self._line(f"{told(title)} ...")

    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None:
        """Progress within a stage of the step."""
        now = time.monotonic()
        if text != self._stage or now - self._last > 5.0:
            self._stage, self._last = text, now
            text = told(text)
            self._line(f"  {text}: {done:.0f} of {total:.0f}" if total > 1 else f"  {text}")

    def end(self, layer: str, seconds: float, reused: bool) -> None:
        """A step is done."""
        text = say("done in {seconds} s", seconds=round(seconds, 1))
        self._line("  " + told("as before" if reused else text))

    def say(self, text: str) -> None:
        """A finding."""
        self._line(f"  {told(text)}")


def make_reporter(console: Console) -> BarReporter | PlainReporter:
    """Bars at a terminal, lines elsewhere."""
    return BarReporter(console) if console.is_terminal else PlainReporter(console)
