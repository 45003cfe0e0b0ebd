"""Time left, told from stages."""

from __future__ import annotations

import pytest

from vast_quarry.pipeline.forecast import StageClock


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
