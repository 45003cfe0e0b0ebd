"""Mesh operations, cutting, meshing, decimation; trimesh as an independent judge."""

from __future__ import annotations

import manifold3d
import numpy as np
import pytest
import trimesh
from numpy.typing import NDArray

from vast_quarry.core.box import KeepBox
from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.errors import PlainError
from vast_quarry.core.surface.cut import cut_open
from vast_quarry.core.surface.decimate import decimate
from vast_quarry.core.surface.holes import boundary_loops, close_holes
from vast_quarry.core.surface.mesh import (
    compacted,
    components,
    cut_apart,
    edge_faces,
    face_areas,
    main_body,
    sample_surface,
    vertex_normals,
    without_degenerate,
)
from vast_quarry.core.surface.poisson import median_spacing, poisson_surface, trimmed
from vast_quarry.pipeline.steps.surface import foot_height, main_surface


def ball(levels: int = 4) -> tuple[np.ndarray, np.ndarray]:
    m = trimesh.creation.icosphere(levels)
    return np.asarray(m.vertices, float), np.asarray(m.faces, np.int64)


def test_areas_and_normals_of_a_ball() -> None:
    v, f = ball()
    assert face_areas(v, f).sum() == pytest.approx(4 * np.pi, rel=0.01)
    assert ((vertex_normals(v, f) * v).sum(1) > 0.999).all()
    pairs, edges = edge_faces(f)
    assert len(pairs) == len(edges) == 3 * len(f) // 2


def test_main_body_is_the_largest() -> None:
    v, f = ball()
    small_v, small_f = ball(1)
    both_v, both_f = np.concatenate([small_v + 5, v]), np.concatenate([small_f, f + len(small_v)])
    assert components(both_f).max() == 1
    mv, mf = main_body(both_v, both_f)
    assert len(mf) == len(f)
    assert np.abs(mv).max() < 1.01


@pytest.mark.parametrize("shared", [1, 2])
def test_bodies_that_touch_along_an_edge_or_in_a_corner_are_taken_apart(shared: int) -> None:
    """An edge with four faces is one of two sheets that touch: each gets its own, and both stay closed."""
    corners = np.array([[0, 0, 0], [0, 0, 1.0], [1, 0, 0.5], [1, 1, 0.5]])
    faces = np.array([[0, 2, 1], [0, 3, 2], [0, 1, 3], [1, 2, 3]])
    other = corners * [-1, -1, 1] if shared == 2 else -corners
    numbers = np.concatenate([np.arange(shared), np.arange(4, 8 - shared)])
    # turned over where it is a mirror image
    more = numbers[faces] if shared == 2 else numbers[faces][:, ::-1]
    v, f = np.concatenate([corners, other[shared:]]), np.concatenate([faces, more])
    v, f = cut_apart(v, f)
    assert len(v) == 8
    assert len(f) == 8
    for part in range(2):
        body = trimesh.Trimesh(*compacted(v, f[4 * part : 4 * part + 4])[:2], process=False)
        assert body.is_watertight
        assert body.is_winding_consistent
    assert set(f[:4].ravel()).isdisjoint(f[4:].ravel())


def test_what_is_in_order_stays_as_it_is() -> None:
    ball = trimesh.creation.icosphere(2)
    v, f = cut_apart(np.asarray(ball.vertices), np.asarray(ball.faces))
    np.testing.assert_array_equal(f, ball.faces)
    assert len(v) == len(ball.vertices)
    # and so does what is open
    v, f = cut_apart(np.asarray(ball.vertices), np.asarray(ball.faces)[40:])
    assert len(f) == len(ball.faces) - 40


def test_compacted_and_degenerate() -> None:
    v = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [9, 9, 9], [2, 0, 0]], float)
    f = np.array([[0, 1, 2], [0, 1, 1], [0, 1, 4]])
    clean = without_degenerate(v, f)
    assert clean.tolist() == [[0, 1, 2]]
    cv, cf, kept = compacted(v, clean)
    assert len(cv) == 3
    assert cf.max() == 2
    assert kept.tolist() == [0, 1, 2]


def test_open_cut_leaves_a_flat_rim() -> None:
    v, f = ball()
    cv, cf = cut_open(v, f, np.array([0, 0, 0.2]), np.array([0, 0, 1.0]))
    m = trimesh.Trimesh(cv, cf, process=False)
    assert cv[:, 2].min() == pytest.approx(0.2, abs=1e-6)
    # a cap of height h has the area 2 pi r h
    assert m.area == pytest.approx(2 * np.pi * 0.8, rel=0.01)
    rim = np.unique(m.edges_sorted[trimesh.grouping.group_rows(m.edges_sorted, require_count=1)])
    np.testing.assert_allclose(cv[rim, 2], 0.2, atol=1e-6)


@pytest.mark.parametrize("height", [0.0, 0.5, -0.3])
def test_open_cut_through_vertices(height: float) -> None:
    v, f = ball(2)
    v[np.abs(v[:, 2] - 0.5) < 0.1, 2] = 0.5
    cv, cf = cut_open(v, f, np.array([0, 0, height]), np.array([0, 0, 1.0]))
    e = np.sort(np.concatenate([cf[:, [0, 1]], cf[:, [1, 2]], cf[:, [2, 0]]]), 1)
    _, count = np.unique(e, axis=0, return_counts=True)
    assert count.max() <= 2
    assert (cv[:, 2] >= height - 1e-6).all()
    assert components(cf).max() == 0


def test_cut_that_misses() -> None:
    v, f = ball(1)
    assert len(cut_open(v, f, np.array([0, 0, -3.0]), np.array([0, 0, 1.0]))[1]) == len(f)
    assert len(cut_open(v, f, np.array([0, 0, 3.0]), np.array([0, 0, 1.0]))[1]) == 0


def test_a_closed_cut_is_watertight() -> None:
    v, f = ball(3)
    cut = close_holes(*cut_open(v, f, np.array([0, 0, 0.2]), np.array([0, 0, 1.0])))
    m = trimesh.Trimesh(*cut)
    assert m.is_watertight
    h = 0.8  # volume of a cap: pi h^2 (3 r - h) / 3
    assert m.volume == pytest.approx(np.pi * h**2 * (3 - h) / 3, rel=0.02)


def test_a_closed_cut_through_a_notch_keeps_to_its_outline() -> None:
    outline = np.array([(0, 0), (4, 0), (4, 3), (2, 0.5), (0, 3)], float)
    solid = manifold3d.CrossSection([outline]).extrude(2.0).to_mesh()
    m = trimesh.Trimesh(solid.vert_properties[:, :3], solid.tri_verts)
    v, f = close_holes(
        *cut_open(np.asarray(m.vertices), np.asarray(m.faces, np.int64), np.array([0, 0, 1.0]), np.array([0, 0, 1.0]))
    )
    cut = trimesh.Trimesh(v, f)
    assert cut.is_watertight
    assert cut.volume == pytest.approx(m.volume / 2)


def test_poisson_and_trim(rng: np.random.Generator) -> None:
    n = rng.normal(0, 1, (20_000, 3))
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    p = n[n[:, 2] > -0.5]
    spacing = median_spacing(p)
    assert 0.002 < spacing < 0.02
    v, f = poisson_surface(p, p, 2 * spacing)
    assert np.median(np.abs(np.linalg.norm(v[v[:, 2] > 0], axis=1) - 1)) < 0.003
    tv, tf = trimmed(v, f, p, 8 * spacing, 60 * spacing)
    assert tv[:, 2].min() > -0.62
    assert len(tf) < len(f)


def test_what_nobody_saw_stays_open_however_few_faces_it_has(rng: np.random.Generator) -> None:
    """Half a ball unseen: Poisson spans it with few large faces; a hole of 20 spacings is bridged."""
    n = rng.normal(0, 1, (30_000, 3))
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    half = n[n[:, 2] > 0]
    spacing = median_spacing(half)
    holed = half[np.linalg.norm(half - [0, 0, 1], axis=1) > 10 * spacing]
    v, f = poisson_surface(holed, holed, 2 * spacing)
    tv, tf = trimmed(v, f, holed, 5 * spacing, 60 * spacing)
    assert tv[:, 2].min() > -0.2
    assert tv[:, 2].max() > 0.99  # bridged
    # its rim is one loop: half a ball, open below, without the hole
    assert face_areas(tv, tf).sum() == pytest.approx(2 * np.pi, rel=0.08)
    tv, tf = trimmed(v, f, holed, 5 * spacing, 0.0)
    assert np.linalg.norm(tv - [0, 0, 1], axis=1).min() > 2 * spacing


def test_too_few_points_say_so() -> None:
    with pytest.raises(PlainError, match="too few"):
        poisson_surface(np.zeros((10, 3)), np.zeros((10, 3)), 0.1)
    with pytest.raises(PlainError, match="too few"):
        poisson_surface(np.ones((1000, 3)), np.ones((1000, 3)), 0.1)


def test_decimation_keeps_the_shape() -> None:
    v, f = ball(6)
    dv, df = decimate(v * 1e-3 + 7.0, f, 4000)
    assert 3000 < len(df) <= 4100
    r = np.linalg.norm(dv - 7.0, axis=1) / 1e-3
    assert np.abs(r - 1).max() < 0.01
    assert decimate(v, f, 10**7)[1] is f


def test_holes_are_closed() -> None:
    v, f = ball(3)
    keep = np.ones(len(f), bool)
    keep[[0, 100]] = False
    keep[(f == 40).any(1)] = False  # all faces about one vertex
    cv, cf = close_holes(v, f[keep])
    m = trimesh.Trimesh(cv, cf)
    assert m.is_watertight
    assert m.is_winding_consistent
    assert m.volume == pytest.approx(trimesh.Trimesh(v, f).volume, rel=0.01)


def test_samples_lie_on_the_surface() -> None:
    v, f = ball(5)
    s = sample_surface(v, f, 500)
    np.testing.assert_allclose(np.linalg.norm(s, axis=1), 1, atol=2e-3)


def on_rough_ground(rng: np.random.Generator) -> Cloud:
    """A block half a metre high on ground with bumps of a few centimetres, sampled every centimetre; nothing of it beneath."""
    x, y = np.meshgrid(np.arange(-0.6, 0.6, 0.01), np.arange(-0.6, 0.6, 0.01))
    ground = np.stack([x, y, 0.012 * np.sin(13 * x) * np.cos(11 * y) + rng.normal(0, 0.001, x.shape)], -1).reshape(
        -1, 3
    )
    ground = ground[np.abs(ground[:, :2]).max(1) > 0.2]
    a, b = (q.ravel() for q in np.meshgrid(np.arange(-0.2, 0.2, 0.01), np.arange(-0.03, 0.5, 0.01)))
    walls, normals = [], []
    for k in range(4):
        turn = np.array(
            [[np.cos(k * np.pi / 2), -np.sin(k * np.pi / 2)], [np.sin(k * np.pi / 2), np.cos(k * np.pi / 2)]]
        )
        xy = np.stack([np.full_like(a, 0.2), a], 1) @ turn.T
        walls.append(np.concatenate([xy, b[:, None]], 1))
        normals.append(np.tile([*(turn @ [1.0, 0]), 0.0], (len(a), 1)))
    c, d = (q.ravel() for q in np.meshgrid(np.arange(-0.2, 0.2, 0.01), np.arange(-0.2, 0.2, 0.01)))
    points = np.concatenate([ground, *walls, np.stack([c, d, np.full_like(c, 0.5)], 1)])
    up = np.tile([0.0, 0, 1], (len(ground), 1))
    n = np.concatenate([up, *normals, np.tile([0.0, 0, 1], (len(c), 1))]).astype(np.float32)
    blank = np.zeros(len(points))
    return Cloud(points, n, np.zeros((len(points), 3), np.uint8), blank.astype(np.int32), blank.astype(np.float32))


@pytest.mark.parametrize("closed", [False, True])
def test_a_subject_is_cut_off_its_ground_in_a_straight_line(rng: np.random.Generator, closed: bool) -> None:
    """Its edge followed the bumps of the ground, with shreds of floor hanging on."""
    box = KeepBox((-0.5, -0.5, 0.0), (0.5, 0.5, 0.6))
    cloud = on_rough_ground(rng)

    def skin(spacing: float) -> tuple[NDArray, NDArray]:
        v, f = poisson_surface(cloud.points, cloud.normals, 1.4 * spacing)
        return (v, f) if closed else trimmed(v, f, cloud.points, 5 * spacing, 60 * spacing)

    (v, f), foot, _ = main_surface(cloud, box, 0.006, lambda text, n: None, skin)
    pairs, _ = edge_faces(f)
    edges = np.sort(np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]]), 1)
    unique, count = np.unique(edges, axis=0, return_counts=True)
    rim = v[np.unique(unique[count == 1])]
    assert len(rim) > 20
    low = rim[rim[:, 2] < 0.3]
    # it stands flat on the plane of the ground, led straight down from above the bumps
    assert np.abs(low[:, 2]).max() < 1e-9
    assert 0.01 < foot < 0.03
    assert not ((v[:, 2] > 1e-9) & (v[:, 2] < foot - 1e-9)).any()
    assert trimesh.Trimesh(v, f, process=False).is_winding_consistent
    # nothing of the floor: all of the rim lies along the block
    assert (np.abs(np.abs(low[:, :2]).max(1) - 0.2) < 0.015).all()
    assert len(pairs) > 1000


def test_where_a_subject_is_cut_off_its_ground() -> None:
    box = KeepBox((-1, -1, 0.0), (1, 1, 1.0))
    assert foot_height(box, 0.005, 0.001) == pytest.approx(0.015)
    assert foot_height(box, 0.0, 0.004) == pytest.approx(0.008)  # on a table the rounded corner counts
    assert (
        foot_height(KeepBox((-1, -1, 0.3), (1, 1, 1.0)), 0.005, 0.001) == 0.3
    )  # higher already, as somebody wanted it
    assert foot_height(KeepBox((-1, -1, 0.0), (1, 1, 0.1)), 0.005, 0.001) == pytest.approx(0.004)  # something flat


def test_loops_that_meet_in_a_point_are_told_apart_however_long(rng: np.random.Generator) -> None:
    """A sheet with many holes that touch at corners, and a rim of thousands of edges: looking each vertex up took its square."""
    n = 120
    i = np.arange((n + 1) ** 2).reshape(n + 1, n + 1)
    keep = np.ones((n, n), bool)
    keep[10:110:2, 10:110:2] = keep[11:110:2, 11:110:2] = False  # like a chessboard: holes meet corner to corner
    a, b, c, d = (q[keep] for q in (i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]))
    f = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
    loops = boundary_loops(f)
    edges = np.sort(np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]]), 1)
    count = np.unique(edges, axis=0, return_counts=True)[1]
    assert sum(len(x) for x in loops) == (count == 1).sum()
    assert all(len(set(x.tolist())) == len(x) for x in loops)
    assert max(len(x) for x in loops) >= 4 * n


def test_only_holes_up_to_a_size_are_closed() -> None:
    ball = trimesh.creation.icosphere(3)
    v, f = np.asarray(ball.vertices), np.asarray(ball.faces)
    middle = v[f].mean(1)
    f = f[(middle[:, 2] < 0.8) & (np.linalg.norm(middle - [1, 0, 0], axis=1) > 0.15)]
    loops = boundary_loops(f)
    assert len(loops) == 2
    _, some = close_holes(v, f, largest=0.6)
    assert len(boundary_loops(some)) == 1
    assert len(boundary_loops(close_holes(v, f)[1])) == 0
