"""Stated precision against what repeated adjustments scatter by, and against the whole normal matrix."""

from __future__ import annotations

import copy

import numpy as np
import pytest
from tests.core.test_bundle import scene

from vast_quarry.core.align import bundle_kernels as kernels
from vast_quarry.core.align.bundle import BundleProblem, adjust
from vast_quarry.core.align.precision import gauge, precision_of, variance_factor
from vast_quarry.core.pose import fit_similarity


def whole_normal_matrix(p: BundleProblem) -> np.ndarray:
    """Of all unknowns (6 n + 8 g + 3 P), entry by entry."""
    n, g = len(p.rotations), len(p.lenses)
    size = 6 * n + 8 * g + 3 * len(p.points)
    out = np.zeros((size, size))
    jc, jl, jp = np.empty((2, 6)), np.empty((2, 8)), np.empty((2, 3))
    for m, (i, x) in enumerate(zip(p.cam, p.point_of)):
        lens = p.lens_of[i]
        kernels.jacobian(p.rotations[i], p.centers[i], p.lenses[lens], p.points[x], *p.xy[m], jc, jl, jp)
        at = np.r_[6 * i : 6 * i + 6, 30:38, 38 + 3 * x : 41 + 3 * x]
        j = np.concatenate([jc, jl, jp], 1)
        out[np.ix_(at, at)] += p.weight[m] * j.T @ j
    return out


def test_covariances_are_those_of_the_whole_normal_matrix(rng: np.random.Generator) -> None:
    """Inner constraints on centres, taken from the pseudo-inverse of everything: same cameras, lenses and points."""
    p = scene(rng, cameras=5, points=30, noise=0.0)
    p.weight = rng.uniform(0.5, 4.0, len(p.xy))
    got = precision_of(p, np.inf)
    n, size = 5, 30 + 8 + 90
    normal = whole_normal_matrix(p)
    moves = np.zeros((size, 7))
    moves[:38] = gauge(p.rotations, p.centers, 1)
    middle = p.points - p.centers.mean(0)
    for k in range(3):
        moves[38 + k :: 3, k] = 1
        turn = np.cross(np.eye(3)[k], middle)
        moves[38:, 3 + k] = turn.ravel()
    moves[38:, 6] = middle.ravel()
    np.testing.assert_allclose(normal @ moves, 0, atol=1e-6 * np.abs(normal).max())
    held = np.zeros_like(moves)
    for i in range(n):
        held[6 * i + 3 : 6 * i + 6] = moves[6 * i + 3 : 6 * i + 6]
    across = np.eye(size) - moves @ np.linalg.solve(held.T @ moves, held.T)
    full = across @ np.linalg.pinv(normal, rcond=1e-13, hermitian=True) @ across.T * got.factor
    for i in range(n):
        block = full[6 * i : 6 * i + 6, 6 * i : 6 * i + 6]
        np.testing.assert_allclose(got.cameras[i], block, rtol=1e-3, atol=1e-6 * np.abs(block).max())
    np.testing.assert_allclose(got.lenses[0], full[30:38, 30:38], rtol=1e-3, atol=1e-7 * full[30, 30])
    for x in (0, 17, 29):
        at = slice(38 + 3 * x, 41 + 3 * x)
        np.testing.assert_allclose(got.points[x], full[at, at], rtol=1e-3, atol=1e-6 * np.abs(full[at, at]).max())


@pytest.mark.parametrize("tails", [False, True])
def test_what_is_stated_is_what_repeated_adjustments_scatter_by(rng: np.random.Generator, tails: bool) -> None:
    """Noise that is normal, or with a tenth of it four times as large, which the robust loss has to cope with."""
    true = scene(rng, cameras=6, points=70)
    loss = 1.5 if tails else np.inf
    centers, points = [], []
    for _ in range(40):
        p = copy.deepcopy(true)
        noise = rng.normal(0, 0.4, p.xy.shape)
        noise[rng.random(len(noise)) < (0.1 if tails else 0)] *= 4
        p.xy, p.weight = p.xy + noise, np.full(len(p.xy), 1 / 0.4**2)
        adjust(p, loss, 20, 1e-9, prior_weight=0.0)
        stated = precision_of(p, loss)
        s = fit_similarity(p.centers, true.centers)
        off = s.points(p.centers) - true.centers
        centers.append((off**2).sum(1) / np.trace(stated.cameras[:, 3:, 3:], axis1=1, axis2=2))
        off = s.points(p.points) - true.points
        points.append((off**2).sum(1) / np.trace(stated.points, axis1=1, axis2=2))
    # with tails, of few observations each, what is stated falls short by an eighth (centres) and a quarter (points)
    assert 0.8 < np.mean(centers) < (1.45 if tails else 1.25)
    assert 0.85 < np.mean(points) < (2.3 if tails else 1.15)


def test_variance_factor_of_normal_residuals_is_their_variance(rng: np.random.Generator) -> None:
    r = rng.normal(0, 0.5, (20_000, 2))
    assert variance_factor(r, np.full(len(r), 1 / 0.25), np.inf, 0) == pytest.approx(1.0, abs=0.02)
    assert variance_factor(2 * r, np.full(len(r), 1 / 0.25), np.inf, 0) == pytest.approx(4.0, abs=0.08)
    # half of the observations taken up by unknowns: residuals are smaller by the root of a half
    assert variance_factor(r * np.sqrt(0.5), np.full(len(r), 1 / 0.25), np.inf, len(r)) == pytest.approx(1.0, abs=0.02)
    # a loss of one sigma costs efficiency, which the factor says: 1.5 by integration over the normal density
    assert 1.2 < variance_factor(r, np.full(len(r), 1 / 0.25), 1.0, 0) < 1.9
