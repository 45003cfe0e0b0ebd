"""Time left, told from stages."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace

import pytest

from vast_quarry.pipeline.ahead import Ahead
from vast_quarry.pipeline.forecast import StageClock, SteadyLeft
from vast_quarry.pipeline.step import Context


class Watch:
    """A clock that is set by hand."""

    def __init__(self) -> None:
        self.t = 0.0

    def __call__(self) -> float:
        return self.t


def test_a_run_like_the_last_one_is_foretold() -> None:
    watch = Watch()
    clock = StageClock({"A": 10.0, "B": 30.0, "C": 60.0}, watch)
    assert clock.note("A", 0, 10) == pytest.approx(100.0)
    watch.t = 5.0
    assert clock.note("A", 5, 10) == pytest.approx(95.0)
    watch.t = 10.0
    assert clock.note("B", 0, 3) == pytest.approx(90.0)
    watch.t = 20.0
    assert clock.note("B", 1, 3) == pytest.approx(80.0)
    watch.t = 40.0
    assert clock.note("C", 0, 1) == pytest.approx(60.0)


@pytest.mark.parametrize("factor", [0.1, 0.5, 3.0, 20.0])
def test_a_slower_or_quicker_run_is_foretold_within_a_factor_of_two_after_its_first_tenth(factor: float) -> None:
    plan = {"A": 10.0, "B": 30.0, "C": 60.0}
    watch = Watch()
    clock = StageClock(plan, watch)
    total = factor * 100.0
    for name, seconds in plan.items():
        for k in range(11):
            left = clock.note(name, k, 10)
            truly = total - watch.t
            if 0.12 * total < watch.t < 0.98 * total:
                assert left is not None
                assert 0.5 < left / truly < 2.0
            if k < 10:
                watch.t += factor * seconds / 10


def test_a_stage_that_tells_no_progress_is_foretold_from_the_last_run() -> None:
    watch = Watch()
    clock = StageClock({"Surface": 20.0, "Cut": 4.0}, watch)
    clock.note("Surface", 0, 1)
    watch.t = 20.0
    assert clock.note("Cut", 0, 1) == pytest.approx(4.0, rel=0.1)
    watch.t = 24.0
    clock.end()
    assert clock.took == {"Surface": 20.0, "Cut": 4.0}


def test_nothing_is_said_when_nothing_is_known() -> None:
    watch = Watch()
    clock = StageClock({}, watch)
    assert clock.note("New", 0, 5) is None
    watch.t = 8.0
    assert clock.note("New", 2, 5) == pytest.approx(12.0)


def test_what_is_told_runs_down_with_the_clock_and_changes_slowly() -> None:
    """Foretold to and fro by a factor of two each way: after its first tenth what is told moves little at a time."""
    watch = Watch()
    steady = SteadyLeft(watch)
    told, whole = [], 400.0
    for k in range(1, 400):
        watch.t = float(k)
        factor = 2.0 if (k // 30) % 2 else 0.5
        told.append((k, steady.told(factor * (whole - k))))
    after = [(k, left) for k, left in told if k > 0.2 * whole]
    for (k, left), (_, later) in zip(after, after[10:]):
        assert 1 / 1.5 < (later + k + 10) / (left + k) < 1.5
    # and a foretelling that holds is told as it is
    watch.t, steady = 0.0, SteadyLeft(watch)
    for k in range(100):
        watch.t = float(k)
        assert steady.told(200.0 - k) == pytest.approx(200.0 - k)


def test_the_whole_run_is_told_with_the_layers_to_come() -> None:
    heard: list[tuple] = []

    class Heard:
        def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None:
            heard.append((layer, number, of))

        def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None:
            heard.append((layer, None if left is None else round(left)))

        def end(self, layer: str, seconds: float, reused: bool) -> None: ...

        def say(self, text: str) -> None: ...

    seconds = {"cameras": 50.0, "points": 100.0, "surface": 30.0}
    ahead = Ahead(Heard(), list(seconds), seconds.__getitem__)
    ahead.begin("photos", "Photos")  # taken as it is
    ahead.begin("cameras", "Cameras")
    ahead.stage("cameras", "Matching", 1, 2, 20.0)
    ahead.stage("cameras", "Counting", 1, 2, None)
    ahead.begin("surface", "Surface")
    assert heard == [("photos", 1, 3), ("cameras", 1, 3), ("cameras", 150), ("cameras", None), ("surface", 3, 3)]


def test_counts_do_not_fall_while_a_stage_is_tried_again(tmp_path: Path) -> None:
    told: list[float] = []
    reporter = SimpleNamespace(stage=lambda layer, text, done, total, left: told.append(done))
    context = Context(tmp_path, None, {}, "cameras", reporter, None)  # type: ignore[arg-type]
    for done in (0, 5, 2, 6, 12):
        context._last = 0.0
        context.stage("Placing cameras", done, 12)
    assert told == [0, 5, 5, 6, 12]
    context.stage("Placing cameras", 0, 3)
    assert told[-1] == 0
