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


class Fake:
    """Attempts that place so many photos in turn, and leave files that tell which of them made them."""

    def __init__(self, folder: Path, placed: list[Any], tilted: str = "auto") -> None:
        self.folder, self.placed, self.seen = folder, placed, []  # type: ignore[var-annotated]
        self.settings = SimpleNamespace(tilted_views=tilted)
        self.findings: list[str] = []

    def found(self, said: Any) -> None:
        self.findings.append(str(said))

    def attempt(self, context: Any, listed: Any, photos: list, obey: bool, tilts: tuple = ()) -> Attempt:
        for name in ("features", "matches"):
            (self.folder / name).mkdir(exist_ok=True)
            assert not list((self.folder / name).iterdir()), "features of the attempt before would be taken for these"
            (self.folder / name / "made").write_text(str(len(self.seen)))
        (self.folder / "coarse.npy").write_text("")
        self.seen.append(tilts)
        placed = self.placed[len(self.seen) - 1]
        model: Any = placed
        if isinstance(placed, int):
            model = attempts.Model.__new__(attempts.Model)
            model.placed = np.arange(len(photos)) < placed
        return Attempt(0, [], SimpleNamespace(), model)  # type: ignore[arg-type]

    def best(self, monkeypatch: pytest.MonkeyPatch, photos: int = 20) -> Attempt:
        monkeypatch.setattr(attempts, "attempt", self.attempt)
        return best_attempt(self, None, [None] * photos, False, lambda m: m)  # type: ignore[arg-type, list-item]

    def made_by(self) -> list[str]:
        return sorted((p.parent.name + " " + p.read_text()) for p in self.folder.glob("*/made"))


@pytest.mark.parametrize(
    ("placed", "tilted", "tilts", "wins"),
    [
        ([20], "auto", [()], 0),
        ([18], "auto", [()], 0),  # two photos that belong to nothing are no reason
        ([10, 20], "auto", [(), TILTS], 1),
        ([10, 10], "auto", [(), TILTS], 0),
        ([Trouble("too few matches", ()), 20], "auto", [(), TILTS], 1),
        ([Trouble("nothing moves", ())], "auto", [()], 0),
        ([10], "never", [()], 0),
        ([20], "always", [TILTS], 0),
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


def test_stopped_in_the_middle_of_another_attempt(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The folders of the first attempt are found set aside: they are taken back, and what was half made is gone."""
    for name in ("features", "matches"):
        (tmp_path / f"{name}-before").mkdir()
        (tmp_path / name).mkdir()
        (tmp_path / name / "made").write_text("half")
    fake = Fake(tmp_path, [20])
    fake.best(monkeypatch)
    assert fake.made_by() == ["features 0", "matches 0"]
