"""Which sparse points are to be trusted: planted false ones go, what lies on edges and few stay."""

from __future__ import annotations

import numpy as np

from vast_quarry.core.align.sparse import trusted


def test_planted_false_points_go_and_the_surface_stays(rng: np.random.Generator) -> None:
    """A box of side 1 with points on five faces, a pixel being 0.002 long: one in ten pushed off by 10 to 100 pixels."""
    x = rng.uniform(0, 1, (3000, 3))
    face = rng.integers(0, 5, 3000)
    axis, side = face % 3, (face // 3).astype(float)
    x[np.arange(3000), axis] = side
    x += rng.normal(0, 0.001, x.shape)
    false = rng.random(3000) < 0.1
    x[false] += rng.normal(0, 1, (int(false.sum()), 3)) / np.sqrt(3) * rng.uniform(0.02, 0.2, (int(false.sum()), 1)) * 2
    depth = np.abs(x[np.arange(3000), axis] - side)
    grain, sigma, views = np.full(3000, 0.002), np.full(3000, 0.001), np.full(3000, 2)
    kept = trusted(x, grain, sigma, views)
    bad = false & (depth > 0.016)  # eight pixels
    assert kept[~false].mean() > 0.95
    assert kept[bad].mean() < 0.25  # a fifth lies among others like it
    # what four photos agree about is kept wherever it lies
    assert trusted(x, grain, sigma, np.full(3000, 4)).all()


def test_points_of_unknown_depth_go(rng: np.random.Generator) -> None:
    x = rng.uniform(0, 1, (400, 3)) * [1, 1, 0]
    sigma = np.where(np.arange(400) < 40, 0.02, 0.001)
    sigma[40:50] = np.nan  # not known is no reason
    kept = trusted(x, np.full(400, 0.002), sigma, np.full(400, 4))
    assert not kept[:40].any()
    assert kept[40:].all()


def test_few_points_are_judged_by_their_precision_alone(rng: np.random.Generator) -> None:
    x = rng.uniform(0, 1, (12, 3))
    assert trusted(x, np.full(12, 0.002), np.full(12, 0.001), np.full(12, 2)).all()


def test_where_photos_stand_close_together_points_are_judged_by_each_other(rng: np.random.Generator) -> None:
    """A clip along a short arc: no depth is sure to four pixels, and none of the points was left; those far less sure than the rest go."""
    x = rng.uniform(0, 1, (500, 3)) * [1, 1, 0]
    sigma = 0.002 * rng.uniform(6, 9, 500)
    sigma[:30] *= 5
    kept = trusted(x, np.full(500, 0.002), sigma, np.full(500, 4))
    assert not kept[:30].any()
    assert kept[30:].all()
