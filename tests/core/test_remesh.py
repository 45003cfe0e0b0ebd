"""Even and fewer triangles: what stays a valid surface, how even it is, how far it lies off."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.curvature import largest_curvature, mean_curvature
from vast_quarry.core.finish.deviation import Measured
from vast_quarry.core.finish.remesh import edge_for, remeshed
from vast_quarry.core.finish.sizes import fewer, fewer_within
from vast_quarry.core.surface.mesh import face_areas, same_places


def arrays(mesh):
    return np.array(mesh.vertices, float), np.array(mesh.faces, np.int64)


def edges_of(v, f):
    e = np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]])
    return np.linalg.norm(v[e[:, 0]] - v[e[:, 1]], axis=1)


@pytest.mark.parametrize("count", [300, 3000])
def test_a_sphere_gets_even_triangles_that_lie_on_it(count):
    v, f = arrays(trimesh.creation.icosphere(4, radius=2.0))
    v2, f2 = remeshed(v, f, count=count)
    body = trimesh.Trimesh(v2, f2, process=False)
    assert body.is_watertight
    assert body.euler_number == 2
    assert abs(len(f2) - count) < 0.1 * count
    assert edges_of(v2, f2).std() / edges_of(v2, f2).mean() < 0.15
    # corners lie on the mesh that was given, whose faces leave the sphere by their sagitta at most
    assert np.abs(np.linalg.norm(v2, axis=1) - 2).max() < 0.01
    assert np.degrees(trimesh.triangles.angles(v2[f2])).min() > 20


def test_a_box_keeps_its_edges_where_that_is_asked_for():
    v, f = arrays(trimesh.creation.box((1, 2, 3)))
    v2, f2 = remeshed(v, f, count=2000, sharp=np.radians(40))
    body = trimesh.Trimesh(v2, f2, process=False)
    assert body.is_watertight
    # the same volume and area mean the same edges and corners
    assert body.volume == pytest.approx(6, rel=1e-6)
    assert body.area == pytest.approx(22, rel=1e-6)
    rounded = trimesh.Trimesh(
        *remeshed(*arrays(trimesh.creation.box((1, 1, 1)).subdivide_to_size(0.05)), count=500), process=False
    )
    assert rounded.volume < 0.999


def test_a_sheet_keeps_its_border():
    x, y = np.meshgrid(np.linspace(0, 1, 30), np.linspace(0, 2, 60))
    v = np.stack([x.ravel(), y.ravel(), 0.05 * np.sin(6 * x.ravel())], 1)
    n = np.arange(59)[:, None] * 30 + np.arange(29)
    n = n.ravel()
    f = np.concatenate([np.stack([n, n + 1, n + 31], 1), np.stack([n, n + 31, n + 30], 1)])
    v2, f2 = remeshed(v, f, edge=0.1)
    assert trimesh.Trimesh(v2, f2, process=False).euler_number == 1
    assert np.ptp(v2[:, 0]) == pytest.approx(1, abs=1e-6)
    assert np.ptp(v2[:, 1]) == pytest.approx(2, abs=1e-6)
    assert edges_of(v2, f2).mean() == pytest.approx(0.1, rel=0.15)


def test_adaptive_triangles_are_smaller_where_the_surface_bends():
    v, f = arrays(trimesh.creation.icosphere(5))
    v = v * [1, 1, 5]
    v2, f2 = remeshed(v, f, count=3000, adaptive=True)
    area = face_areas(v2, f2)
    end = np.abs(v2[f2].mean(1)[:, 2]) > 4.5
    even = Measured(v, f).against(*remeshed(v, f, count=3000))
    assert area[end].mean() < 0.8 * area[~end].mean()
    assert Measured(v, f).against(v2, f2).most_of_it < 1.1 * even.most_of_it


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 10_000), st.integers(60, 2000))
def test_whatever_the_form_the_surface_stays_closed(seed, count):
    rng = np.random.default_rng(seed)
    v, f = arrays(trimesh.creation.icosphere(3))
    v = v * rng.uniform(0.2, 3, 3) * (1 + 0.1 * rng.standard_normal(len(v)))[:, None]
    v2, f2 = remeshed(v, f, count=count)
    body = trimesh.Trimesh(v2, f2, process=False)
    assert body.is_watertight
    assert body.is_winding_consistent
    assert (face_areas(v2, f2) > 0).all()


def test_fewest_triangles_for_an_error_keep_it():
    v, f = arrays(trimesh.creation.icosphere(5))
    v2, f2, found = fewer_within(v, f, 0.005)
    assert found.most_of_it <= 0.005
    assert len(f2) < len(f) / 8
    assert Measured(v, f).against(v2, f2).most_of_it == pytest.approx(found.most_of_it, rel=0.05)
    fewer_still = Measured(v, f).against(*fewer(v, f, len(f2) // 2))
    assert fewer_still.most_of_it > 0.005


def test_distances_between_spheres_are_the_difference_of_their_radii():
    inner, outer = (arrays(trimesh.creation.icosphere(6, radius=r)) for r in (1.0, 1.1))
    found = Measured(*inner).against(*outer)
    assert found.mean == pytest.approx(0.1, rel=0.01)
    assert found.largest == pytest.approx(0.1, rel=0.02)


def test_curvature_of_a_sphere_is_one_over_its_radius():
    v, f = arrays(trimesh.creation.icosphere(4, radius=0.25))
    assert np.median(mean_curvature(v, f)) == pytest.approx(4, rel=0.01)
    assert np.median(largest_curvature(v, f)) == pytest.approx(4, rel=0.05)
    assert np.median(mean_curvature(v, f[:, ::-1])) == pytest.approx(-4, rel=0.01)


def test_triangles_of_a_count_have_the_area_between_them():
    # an equilateral triangle of side a has the area a^2 sqrt(3) / 4
    assert edge_for(100 * np.sqrt(3) / 4 * 0.3**2, 100) == pytest.approx(0.3)


def test_what_cannot_be_is_told():
    v, f = arrays(trimesh.creation.box())
    for bad in ({}, {"edge": 1e-6}):
        with pytest.raises(PlainError):
            remeshed(v, f, **bad)
    with pytest.raises(PlainError):
        remeshed(v, f[:0], edge=0.1)
    for error in (0, -1, np.nan):
        with pytest.raises(PlainError):
            fewer_within(v, f, error)
    with pytest.raises(PlainError):
        fewer(v, f, 3)


def test_places_are_joined_as_by_comparing_them():
    rng = np.random.default_rng(1)
    v = rng.random((500, 3))[rng.integers(0, 500, 3000)]
    first, which = same_places(v)
    assert len(first) == len(np.unique(v, axis=0))
    np.testing.assert_allclose(v[first][which], v, atol=1e-7)
