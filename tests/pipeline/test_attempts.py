"""Another attempt where photos fall apart: made when it is worth it, kept when it placed more, else as if it had not been."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

import vast_quarry.pipeline.attempts as attempts
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.pipeline.attempts import TILTS, Attempt, best_attempt
from vast_quarry.pipeline.features import Effort, Features

PLAIN, TILTED, LIFTED = Effort(), Effort(TILTS), Effort(lifted=True)


class Fake:
    """Attempts that place so many photos in turn, and leave files that tell which of them made them."""

    def __init__(self, placed: list[Any], tilted: str = "auto", second: str = "never", features: int = 3000) -> None:
        self.placed, self.seen = placed, []  # type: ignore[var-annotated]
        self.settings = SimpleNamespace(tilted_views=tilted, second_try=second, local_contrast=False, features=3000)
        self.features = features
        self.findings: list[str] = []

    def found(self, said: Any) -> None:
        self.findings.append(str(said))

    def attempt(self, context: Any, listed: Any, photos: list, obey: bool, effort: Effort) -> Attempt:
        self.seen.append(effort)
        placed = self.placed[len(self.seen) - 1]
        model: Any = placed
        if isinstance(placed, int):
            model = attempts.Model.__new__(attempts.Model)
            model.placed = np.arange(len(photos)) < placed
            model.apart = []
        data: Any = SimpleNamespace(xy=[range(self.features)] * len(photos))
        return Attempt(Features([], [], 0, effort), [], data, model, [])

    def best(self, monkeypatch: pytest.MonkeyPatch, photos: int = 20) -> Attempt:
        monkeypatch.setattr(attempts, "attempt", self.attempt)
        return best_attempt(self, None, [None] * photos, False, lambda m: m)  # type: ignore[arg-type, list-item]


@pytest.mark.parametrize(
    ("placed", "tilted", "tilts", "wins"),
    [
        ([20], "auto", [PLAIN], 0),
        ([18], "auto", [PLAIN], 0),  # two photos that belong to nothing are no reason
        ([10, 20], "auto", [PLAIN, TILTED], 1),
        ([10, 10], "auto", [PLAIN, TILTED], 0),
        ([Trouble("too few matches", ()), 20], "auto", [PLAIN, TILTED], 1),
        ([Trouble("nothing moves", ())], "auto", [PLAIN], 0),
        ([10], "never", [PLAIN], 0),
        ([20], "always", [TILTED], 0),
    ],
)
def test_when_and_what_is_kept(
    monkeypatch: pytest.MonkeyPatch, placed: list, tilted: str, tilts: list, wins: int
) -> None:
    fake = Fake(placed, tilted)
    best = fake.best(monkeypatch)
    assert fake.seen == tilts
    assert best.placed == (placed[wins] if isinstance(placed[wins], int) else 0)
    assert best.features.effort == tilts[wins]
    assert any("tilted views" in f for f in fake.findings) == (wins == 1)


@pytest.mark.parametrize(
    ("placed", "features", "efforts", "wins"),
    [
        ([20], 3000, [PLAIN], 0),
        ([0, 12, 20], 3000, [PLAIN, TILTED, LIFTED], 2),
        ([0, 20], 400, [PLAIN, LIFTED], 1),  # few features: contrast is what is missing
        ([5, 5, 5], 400, [PLAIN, LIFTED, TILTED], 0),
        ([Trouble("nothing moves", ())], 400, [PLAIN], 0),
    ],
)
def test_contrast_is_lifted_where_features_are_few_or_nothing_else_helped(
    monkeypatch: pytest.MonkeyPatch, placed: list, features: int, efforts: list, wins: int
) -> None:
    fake = Fake(placed, second="auto", features=features)
    best = fake.best(monkeypatch)
    assert fake.seen == efforts
    assert best.placed == (placed[wins] if isinstance(placed[wins], int) else 0)
    assert best.features.effort == efforts[wins]
    assert any("contrast was lifted" in f for f in fake.findings) == (efforts[wins] == LIFTED)
