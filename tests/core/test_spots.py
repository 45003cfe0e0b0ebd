"""Photos that were all placed on one spot although what they show moves."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.spots import on_one_spot


def placed(still: range, moves: float) -> tuple[SimpleNamespace, list[NDArray], dict]:
    """Twelve photos along a path, those of ``still`` on one spot, whose pictures move by so many pixels a photo."""
    centers = np.stack([np.arange(12) * 0.05, np.zeros(12), np.zeros(12)], 1)
    centers[list(still)] = centers[still.start]
    model = SimpleNamespace(
        placed=np.ones(12, bool), centers=centers, points=np.array([[0.3, 0, 2.0]] * 9), good=np.ones(9, bool),
        sizes=np.full((12, 2), 640.0),
    )  # fmt: skip
    rng = np.random.default_rng(0)
    first = rng.uniform(0, 640, (40, 2)).astype(np.float32)
    xy = [first + np.float32(moves * k) for k in range(12)]
    every = np.stack([np.arange(40)] * 2, 1).astype(np.int32)
    return model, xy, {(i, j): every for i in range(12) for j in range(i + 1, 12)}


def test_a_run_that_followed_the_backdrop_is_told() -> None:
    """Half of a real set followed the room, and it was called sound."""
    model, xy, matches = placed(range(5, 11), 6.0)
    assert on_one_spot(model, xy, matches, np.arange(12)) == [[5, 6, 7, 8, 9, 10]]  # type: ignore[arg-type]


def test_frames_that_stand_still_and_a_path_are_not() -> None:
    model, xy, matches = placed(range(5, 11), 0.1)
    assert on_one_spot(model, xy, matches, np.arange(12)) == []  # type: ignore[arg-type]
    model, xy, matches = placed(range(5, 6), 6.0)
    assert on_one_spot(model, xy, matches, np.arange(12)) == []  # type: ignore[arg-type]
