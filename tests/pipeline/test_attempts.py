"""Another attempt where photos fall apart: made when it is worth it, kept when it placed more, else as if it had not been."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

import vast_quarry.pipeline.attempts as attempts
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.pipeline.attempts import TILTS, Attempt, best_attempt
from vast_quarry.pipeline.joining import Effort

PLAIN, TILTED, LIFTED = Effort(), Effort(TILTS), Effort(lifted=True)


class Fake:
    """Attempts that place so many photos in turn, and leave files that tell which of them made them."""

    def __init__(
        self, folder: Path, placed: list[Any], tilted: str = "auto", second: str = "never", features: int = 3000
    ) -> None:
        self.folder, self.placed, self.seen = folder, placed, []  # type: ignore[var-annotated]
        self.settings = SimpleNamespace(tilted_views=tilted, second_try=second, local_contrast=False, features=3000)
        self.features = features
        self.findings: list[str] = []

    def found(self, said: Any) -> None:
        self.findings.append(str(said))

    def attempt(self, context: Any, listed: Any, photos: list, obey: bool, effort: Effort) -> Attempt:
        for name in ("features", "matches"):
            (self.folder / name).mkdir(exist_ok=True)
            assert not list((self.folder / name).iterdir()), "features of the attempt before would be taken for these"
            (self.folder / name / "made").write_text(str(len(self.seen)))
        (self.folder / "coarse.npy").write_text("")
        self.seen.append(effort)
        placed = self.placed[len(self.seen) - 1]
        model: Any = placed
        if isinstance(placed, int):
            model = attempts.Model.__new__(attempts.Model)
            model.placed = np.arange(len(photos)) < placed
            model.apart = []
        return Attempt(0, [], SimpleNamespace(xy=[range(self.features)] * len(photos)), model)  # type: ignore[arg-type]

    def best(self, monkeypatch: pytest.MonkeyPatch, photos: int = 20) -> Attempt:
        monkeypatch.setattr(attempts, "attempt", self.attempt)
        return best_attempt(self, None, [None] * photos, False, lambda m: m)  # type: ignore[arg-type, list-item]

    def made_by(self) -> list[str]:
        return sorted((p.parent.name + " " + p.read_text()) for p in self.folder.glob("*/made"))


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
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, placed: list, tilted: str, tilts: list, wins: int
) -> None:
    fake = Fake(tmp_path, placed, tilted)
    best = fake.best(monkeypatch)
    assert fake.seen == tilts
    assert best.placed == (placed[wins] if isinstance(placed[wins], int) else 0)
    assert fake.made_by() == [f"features {wins}", f"matches {wins}"]
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
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, placed: list, features: int, efforts: list, wins: int
) -> None:
    fake = Fake(tmp_path, placed, second="auto", features=features)
    best = fake.best(monkeypatch)
    assert fake.seen == efforts
    assert best.placed == (placed[wins] if isinstance(placed[wins], int) else 0)
    assert fake.made_by() == [f"features {wins}", f"matches {wins}"]
    assert any("contrast was lifted" in f for f in fake.findings) == (efforts[wins] == LIFTED)


def test_stopped_in_the_middle_of_another_attempt(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The folders of the first attempt are found set aside: they are taken back, and what was half made is gone."""
    for name in ("features", "matches"):
        (tmp_path / f"{name}-before").mkdir()
        (tmp_path / name).mkdir()
        (tmp_path / name / "made").write_text("half")
    fake = Fake(tmp_path, [20])
    fake.best(monkeypatch)
    assert fake.made_by() == ["features 0", "matches 0"]
