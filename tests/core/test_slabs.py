"""Surfaces made in slabs, against what is known of a ball, and against the surface made in one."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
import trimesh
from numpy.typing import NDArray

from vast_quarry.core.surface.mesh import edge_faces, face_normals
from vast_quarry.core.surface.poisson import median_spacing, near_points, octree, poisson_surface
from vast_quarry.core.surface.slabs import Slab, joined_slabs, sewn, slabs_of


def noisy_ball(rng: np.random.Generator, count: int, noise: float) -> tuple[NDArray, NDArray]:
    """Points on a ball twice as long as it is wide, off it by some noise along the normal; and normals."""
    n = rng.normal(0, 1, (count, 3))
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    p = n * [1.0, 1.0, 2.0]
    normals = n / [1.0, 1.0, 2.0]
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    return p + normals * rng.normal(0, noise, (count, 1)), normals


def test_slabs_overlap_and_leave_nothing_out(rng: np.random.Generator) -> None:
    p, _ = noisy_ball(rng, 20_000, 0.0)
    slabs = slabs_of(p, 6000, 0.05)
    assert len(slabs) == 4
    assert [s.axis for s in slabs] == [2] * 4
    held = np.stack([s.holds(p) for s in slabs])
    assert (held.sum(0) >= 1).all()
    assert held.sum(1).max() < 9000
    for one, two in pairwise(slabs):
        assert one.high == two.low
        both = p[one.holds(p) & two.holds(p), 2]
        assert np.ptp(both) == pytest.approx(0.1, rel=0.05)
    # margins as thick as the slabs would leave nothing of them
    assert len(slabs_of(p, 100, 0.3)) == 3
    assert len(slabs_of(p, 10**6, 0.05)) == 1


def test_a_cut_goes_where_little_is_cut(rng: np.random.Generator) -> None:
    """A rod with a disc about its middle: the disc is not cut within its thickness."""
    z = rng.uniform(-1, 1, 30_000)
    rod = np.stack([0.1 * np.cos(z * 99), 0.1 * np.sin(z * 99), z], 1)
    r, a = 0.6 * np.sqrt(rng.random(2000)), rng.uniform(0, 2 * np.pi, 2000)
    disc = np.stack([r * np.cos(a), r * np.sin(a), rng.uniform(-0.01, 0.01, 2000)], 1)
    first, _ = slabs_of(np.concatenate([rod, disc]), 17_000, 0.05)
    assert 0.02 < abs(first.high) < 0.4


def test_a_surface_in_slabs_is_whole_and_shows_no_border(rng: np.random.Generator) -> None:
    """Held against the surface made in one, and against the ball itself: no worse at the seams than elsewhere."""
    p, n = noisy_ball(rng, 20_000, 0.004)
    cell = 2.0 * median_spacing(p)
    slabs = slabs_of(p, 11_000, 12 * cell)
    assert len(slabs) == 2
    parts = [poisson_surface(p[s.holds(p)], n[s.holds(p)], cell) for s in slabs]
    v, f = joined_slabs(slabs, parts, cell)
    mesh = trimesh.Trimesh(v, f, process=False)
    assert mesh.is_watertight
    assert mesh.is_winding_consistent
    assert mesh.euler_number == 2
    assert mesh.volume == pytest.approx(4 / 3 * np.pi * 2, rel=0.01)
    off = np.abs(np.linalg.norm(v / [1.0, 1.0, 2.0], axis=1) - 1)
    seam = np.min([np.abs(v[:, 2] - s.low) for s in slabs[1:]], axis=0) < 2 * cell
    assert np.percentile(off[seam], 95) < 1.1 * np.percentile(off[~seam], 95)
    pairs, edges = edge_faces(f)
    normals = face_normals(v, f)
    bent = np.arccos(np.clip((normals[pairs[:, 0]] * normals[pairs[:, 1]]).sum(1), -1, 1))
    at = seam[edges].all(1)
    assert np.percentile(bent[at], 90) < 1.2 * np.percentile(bent[~at], 90)
    whole = trimesh.Trimesh(*poisson_surface(p, n, cell), process=False)
    assert mesh.area == pytest.approx(whole.area, rel=0.002)


def grid(across: NDArray, along: NDArray, up: float) -> tuple[NDArray, NDArray]:
    """A sheet through places (N,) by (M,), seen from above."""
    x, y = np.meshgrid(across, along, indexing="ij")
    v = np.stack([x, y, np.full_like(x, up)], -1).reshape(-1, 3)
    number = np.arange(x.size).reshape(x.shape)
    a, b, c, d = (q.ravel() for q in (number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]))
    return v, np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])


def test_rims_with_other_corners_are_sewn_and_what_has_nothing_to_meet_stays_open() -> None:
    one = grid(np.linspace(-1, 0, 5), np.linspace(0, 3, 31), 0.0)
    two = grid(np.linspace(0, 1, 5), np.array([0.0, 0.13, 0.21, 0.6, 1.0, 1.02, 1.04, 2.0]), 0.001)
    v, f = sewn(one, two, 0, 0.0, 0.1)
    half = np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]])
    key, back = half[:, 0] * len(v) + half[:, 1], half[:, 1] * len(v) + half[:, 0]
    rim = half[~np.isin(key, back)]
    inside = (np.abs(v[:, 0]) < 1e-9)[rim].all(1)
    assert v[rim[inside].ravel(), 1].min() > 1.9
    assert trimesh.Trimesh(v, f, process=False).is_winding_consistent
    assert trimesh.Trimesh(v, f, process=False).area == pytest.approx(5.0, rel=0.001)
    apart = two[0] + [0.0, 0.0, 1.0]
    _, f = sewn(one, (apart, two[1]), 0, 0.0, 0.1)
    assert len(f) == len(one[1]) + len(two[1])


def test_what_one_slab_has_nothing_of_is_left_as_it_is() -> None:
    ball = trimesh.creation.icosphere(3)
    none = np.zeros((0, 3)), np.zeros((0, 3), np.int64)
    slabs = [Slab(2, -np.inf, 5.0, 0.1), Slab(2, 5.0, np.inf, 0.1)]
    v, f = joined_slabs(slabs, [(np.array(ball.vertices), np.array(ball.faces)), none], 0.1)
    assert trimesh.Trimesh(v, f, process=False).is_watertight


def test_cells_are_as_wide_as_they_are_asked_to_be() -> None:
    for extent, cell in ((2.0, 0.01), (0.3, 0.002), (1.0, 0.9)):
        depth, times = octree(extent, cell)
        assert times >= 1.1
        if depth > 5:
            assert extent * times / 2**depth == pytest.approx(cell)
            assert extent * times / 2 ** (depth - 1) >= 1.1 * extent or times < 2.2


def test_large_clouds_are_looked_at_in_parts(rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch) -> None:
    p, _ = noisy_ball(rng, 60_000, 0.0)
    v = rng.uniform(-2, 2, (5000, 3))
    np.testing.assert_array_equal(near_points(v, p, 0.05), near_points(v, p, 0.05, at_once=7000))
    whole = median_spacing(p)
    monkeypatch.setattr("vast_quarry.core.surface.poisson.WHOLE", 50_000)
    assert median_spacing(p) == pytest.approx(whole, rel=0.05)
