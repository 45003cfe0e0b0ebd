"""Points of a large cloud where one looks: each once, in view, denser near the eye, no more than wanted."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.dense.nearby import RUN, along_curve, first_of_runs, in_runs
from vast_quarry.core.screen import on_screen

#: looks along +x from the origin: y to the left, z up; an opening of 90 degrees
ALONG_X = np.array([[0, -1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 0], [1, 0, 0, 0]], float)


def long_floor(rng: np.random.Generator, count: int = 120_000) -> NDArray[np.float64]:
    """A floor below the eye, from near it to far off, and behind it too."""
    return np.column_stack([rng.uniform(-10, 30, count), rng.uniform(-4, 4, count), np.full(count, -1.0)])


def interleaved(a: int, b: int, c: int) -> int:
    """Bits of three numbers one after the other, by strings: a twin of the shifts."""
    bits = [f"{v:021b}" for v in (c, b, a)]
    return int("".join("".join(t) for t in zip(*bits)), 2)


def test_points_go_along_mortons_curve(rng: np.random.Generator) -> None:
    points = rng.integers(0, 1 << 20, (300, 3)).astype(float)
    points[0], points[1] = 0.0, float(1 << 20)
    cells = np.minimum(points, (1 << 20) - 1).astype(int)
    keys = [interleaved(*c) for c in cells.tolist()]
    assert along_curve(points).tolist() == sorted(range(300), key=lambda k: keys[k])


def test_runs_hold_every_point_once_and_are_small(rng: np.random.Generator) -> None:
    points = long_floor(rng)
    order, runs = in_runs(points)
    assert sorted(order.tolist()) == list(range(len(points)))
    placed = points[order]
    for k in range(len(runs.low)):
        mine = placed[k * RUN : (k + 1) * RUN]
        assert (mine >= runs.low[k]).all()
        assert (mine <= runs.high[k]).all()
    assert np.median((runs.high - runs.low).max(1)) < 8


def test_a_view_takes_what_is_in_it_and_more_of_what_is_near(rng: np.random.Generator) -> None:
    points = long_floor(rng)
    order, runs = in_runs(points)
    spacing = float(np.sqrt(40 * 8 / len(points)))
    taken = points[order[first_of_runs(runs.parts(ALONG_X, 200, spacing, 10**7))]]
    at = on_screen(points, ALONG_X)
    seen = (np.abs(at) <= 1).all(1)
    mine = (np.abs(on_screen(taken, ALONG_X)) <= 1).all(1)
    # near the eye all of it; far off, where points lie closer than pixels, a part
    near, far = (points[:, 0] < 3), (points[:, 0] > 20)
    assert (taken[mine][:, 0] < 3).sum() == (seen & near).sum()
    assert 0.01 < (taken[mine][:, 0] > 20).sum() / (seen & far).sum() < 0.3
    assert (taken[:, 0] < 0).mean() < 0.05
    few = runs.parts(ALONG_X, 200, spacing, 5000)
    assert 4500 < few.sum() < 5000 + len(few)
