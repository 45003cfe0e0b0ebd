"""Depth carried across what is plain, and not across edges."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.dense.filling import FARTHEST, filled

HIGH, WIDE = 120, 160


def scene(rng: np.random.Generator) -> tuple[NDArray, NDArray, NDArray]:
    """True depths, greys and the nearer of two surfaces: a slanted panel, bright, before a darker wall."""
    v, u = np.meshgrid(np.arange(HIGH), np.arange(WIDE), indexing="ij")
    wall = 1 / (0.25 + 0.0001 * u)
    panel = 1 / (0.5 + 0.0006 * u + 0.0004 * v)
    near = (np.abs(u - 80) < 45) & (np.abs(v - 60) < 40)
    depth = np.where(near, panel, wall).astype(np.float32)
    gray = np.where(near, 150.0, 90.0) + rng.normal(0, 1.0, depth.shape)
    return depth, np.clip(gray, 0, 255).astype(np.uint8), near


def test_a_plain_panel_is_filled_from_its_rim_and_the_wall_stays_behind_it(rng: np.random.Generator) -> None:
    depth, gray, _ = scene(rng)
    # only a band about the panel's rim, and the wall, are known
    v, u = np.meshgrid(np.arange(HIGH), np.arange(WIDE), indexing="ij")
    bare = (np.abs(u - 80) < 33) & (np.abs(v - 60) < 28)
    out, _ = filled(depth, ~bare, np.ones(depth.shape, bool), gray)
    reached = out[bare] > 0
    assert reached.mean() > 0.9
    off = np.abs(out[bare][reached] / depth[bare][reached] - 1)
    # the planes of the rim meet in the middle
    assert np.median(off) < 0.003
    assert off.max() < 0.03
    # what was known stays as it was
    assert np.allclose(out[~bare], depth[~bare], rtol=1e-5)


def test_nothing_is_carried_across_an_edge_while_there_is_another_way(rng: np.random.Generator) -> None:
    """The rim of the panel itself is not known: it takes the panel's depth or none, not that of the wall right beside it."""
    depth, gray, near = scene(rng)
    v, u = np.meshgrid(np.arange(HIGH), np.arange(WIDE), indexing="ij")
    inner = (np.abs(u - 80) < 35) & (np.abs(v - 60) < 30)
    out, _ = filled(depth, inner | ~near, np.ones(depth.shape, bool), gray)
    rim = near & ~inner
    assert ((out[rim] == 0) | (np.abs(out[rim] / np.maximum(depth[rim], 1e-9) - 1) < 0.02)).mean() > 0.97


def test_nothing_is_carried_too_far_nor_without_anything_known(rng: np.random.Generator) -> None:
    depth, gray, _ = scene(rng)
    known = np.zeros(depth.shape, bool)
    known[60, 80] = True
    out, _ = filled(depth, known, np.ones(depth.shape, bool), np.full_like(gray, 120))
    v, u = np.nonzero(out)
    assert np.hypot(v - 60, u - 80).max() <= 1.1 * FARTHEST * WIDE
    assert not filled(depth, np.zeros_like(known), np.ones(depth.shape, bool), gray)[0].any()
