"""Charts, packing and colours."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from scipy import ndimage

from vast_quarry.core.camera import Camera, project, view_limit
from vast_quarry.core.pose import look_at
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import edge_faces, vertex_normals
from vast_quarry.core.texture.charts import DIRECTIONS, Charts, _adjacency, _spread, basis, make_charts
from vast_quarry.core.texture.coloring import (
    ColorSum,
    crisper,
    edge_ramp,
    even_gains,
    prepare_photo,
    spread_over_mesh,
)
from vast_quarry.core.texture.coloring_kernels import BLOCK, FLATTEST, shown
from vast_quarry.core.texture.packing import raster_faces, unwrap


def bumpy_ball(rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    m = trimesh.creation.icosphere(5)
    v = np.asarray(m.vertices, float)
    return v * (1 + 0.02 * np.sin(9 * v[:, :1]) + rng.normal(0, 0.001, (len(v), 1))), np.asarray(m.faces, np.int64)


def test_atlas_has_no_overlap_and_is_well_filled(rng: np.random.Generator) -> None:
    v, f = bumpy_ball(rng)
    charts = make_charts(v, f)
    assert len(charts.direction) < 80
    atlas = unwrap(v, f, charts, 512, 400.0)
    assert atlas.uv.min() >= -0.5
    assert atlas.uv.max() <= 511.5
    # every face is the same triangle of the mesh
    np.testing.assert_array_equal(atlas.wedge_vertex[atlas.faces], f)
    area = 0.0
    t = atlas.uv[atlas.faces]
    e1, e2 = t[:, 1] - t[:, 0], t[:, 2] - t[:, 0]
    area = np.abs(e1[:, 0] * e2[:, 1] - e1[:, 1] * e2[:, 0]).sum() / 2
    covered = raster_faces(atlas.uv, atlas.faces, 512) >= 0
    assert area / 512**2 > 0.5
    # turned by a quarter or not, none is mirrored
    assert (e1[:, 0] * e2[:, 1] - e1[:, 1] * e2[:, 0] < 0).all()
    # without overlap the covered texels are the area of the triangles, plus a rim
    assert covered.sum() > 0.97 * area


def test_large_charts_are_cut_where_they_leave_much_empty() -> None:
    """Two squares fill half of a square however they are laid; cut, they leave little."""
    body = trimesh.creation.box((1, 1, 1)).subdivide().subdivide().subdivide().subdivide()
    v, f, n = np.array(body.vertices), np.array(body.faces, np.int64), body.face_normals
    two = f[np.abs(n[:, 2]) > 0.9]
    used, two = np.unique(two, return_inverse=True)
    two = two.reshape(-1, 3)
    charts = make_charts(v[used], two)
    assert len(charts.direction) == 2
    atlas = unwrap(v[used], two, charts, 512, 1e6)
    assert 2 * (atlas.density / 512) ** 2 > 0.72
    covered = raster_faces(atlas.uv, atlas.faces, 512) >= 0
    assert covered.sum() > 0.97 * 2 * atlas.density**2
    # where as fine as wanted fits anyway, nothing is cut
    whole = unwrap(v[used], two, charts, 512, 200.0)
    assert whole.density == 200.0
    assert len(whole.uv) == len(used)


def test_a_chart_lies_straight_however_it_stood() -> None:
    """A long strip that lies askew in its plane takes its own rectangle of the atlas, not that of its diagonal."""
    turn = np.array([[0.8, -0.6], [0.6, 0.8]])
    strip = np.array([[0.0, 0], [3, 0], [3, 1], [0, 1]]) @ turn.T
    v = np.column_stack([np.concatenate([strip + np.array([0, 9 * k]) for k in range(3)]), np.zeros(12)])
    f = np.concatenate([np.array([[0, 1, 2], [0, 2, 3]]) + 4 * k for k in range(3)])
    atlas = unwrap(v, f, make_charts(v, f), 256, 1e6)
    sides = np.abs(atlas.uv[atlas.faces[:, 1]] - atlas.uv[atlas.faces[:, 0]])
    assert sides.min() < 1e-3 * atlas.density
    assert 9 * (atlas.density / 256) ** 2 > 0.83


def test_what_spreads_over_faces_is_what_the_matrix_says(rng: np.random.Generator) -> None:
    ball = trimesh.creation.icosphere(3)
    adjacency = _adjacency(np.array(ball.faces, np.int64)[:-7])
    values = rng.random((adjacency.shape[0], 14)).astype(np.float32)
    out = np.empty_like(values)
    _spread(adjacency.indptr, adjacency.indices, values, out)
    np.testing.assert_allclose(out, 0.25 * (values + adjacency @ values), rtol=1e-5)


def test_borders_of_charts_are_short_on_a_rough_ball(rng: np.random.Generator) -> None:
    """Faces whose neighbours are of another chart: on a smooth ball few, and on one with rough skin not many more."""

    def borders(roughness: float) -> float:
        ball = trimesh.creation.icosphere(6)
        v, f = np.array(ball.vertices), np.array(ball.faces, np.int64)
        v *= 1 + roughness * rng.normal(0, 1, (len(v), 1))
        chart = make_charts(v, f).chart
        pairs, _ = edge_faces(f)
        return float((chart[pairs[:, 0]] != chart[pairs[:, 1]]).mean())

    smooth, rough = borders(0.0), borders(0.004)
    assert smooth < 0.02
    assert rough < 1.15 * smooth


def test_charts_are_turned_where_that_leaves_less_empty() -> None:
    """Four tall plates and a small one, as of a milestone: side by side upright they fill two thirds of the square."""
    sizes = ((0.62, 1.21), (0.62, 1.21), (0.37, 1.12), (0.37, 1.12), (0.33, 0.41))
    v = np.concatenate(
        [np.array([[0, 0, k], [w, 0, k], [w, h, k], [0, h, k]], float) for k, (w, h) in enumerate(sizes)]
    )
    f = np.concatenate([np.array([[0, 1, 2], [0, 2, 3]]) + 4 * k for k in range(len(sizes))])
    up = int((DIRECTIONS @ [0, 0, 1]).argmax())
    charts = Charts(np.repeat(np.arange(5), 2), np.full(5, up))
    atlas = unwrap(v, f, charts, 512, 1e6)
    covered = raster_faces(atlas.uv, atlas.faces, 512) >= 0
    assert covered.mean() > 0.75


@pytest.mark.parametrize("size", [1024, 4096])
def test_charts_keep_four_texels_apart_in_atlases_of_all_sizes(rng: np.random.Generator, size: int) -> None:
    """At 4096 a cell of the packing is four texels wide: charts lay side by side, and mip maps bled."""
    v, f = bumpy_ball(rng)
    charts = make_charts(v, f)
    atlas = unwrap(v, f, charts, size, 0.55 * size)
    face = raster_faces(atlas.uv, atlas.faces, size)
    label = np.where(face >= 0, charts.chart[face], -1)
    window = label[: size // 2, : size // 2]
    most = ndimage.maximum_filter(window, 5)
    least = ndimage.minimum_filter(np.where(window < 0, 10**6, window), 5)
    # within two texels of one there is no other: four lie between, but for a texel of the raster's own rim
    assert (least[window >= 0] == window[window >= 0]).all()
    assert (most[window >= 0] == window[window >= 0]).all()
    assert len(np.unique(window)) > 4


def test_projection_axes_are_right_handed() -> None:
    for k in range(len(DIRECTIONS)):
        right, up, d = basis(k)
        np.testing.assert_allclose(np.cross(right, up), d, atol=1e-12)


def test_folded_faces_are_torn_apart() -> None:
    # two parallel sheets joined along an edge, one above the other
    x = np.linspace(0, 1, 20)
    top = np.array([[a, b, 0.3] for a in x for b in x])
    bottom = np.array([[a, b, 0.0] for a in x for b in x])
    i = np.arange(400).reshape(20, 20)
    q = np.stack([i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]], -1).reshape(-1, 4)
    sheet = np.concatenate([q[:, [0, 1, 2]], q[:, [0, 2, 3]]])
    wall = np.array([[a, b] for a, b in zip(i[0, :-1], i[0, 1:])])
    wall_faces = np.concatenate(
        [
            np.stack([wall[:, 0], wall[:, 1], wall[:, 1] + 400], 1),
            np.stack([wall[:, 0], wall[:, 1] + 400, wall[:, 0] + 400], 1),
        ]
    )
    v, f = np.concatenate([top, bottom]), np.concatenate([sheet, sheet + 400, wall_faces])
    charts = make_charts(v, f)
    atlas = unwrap(v, f, charts, 256, 150.0)
    owner = raster_faces(atlas.uv, atlas.faces, 256)
    seen = np.unique(owner[owner >= 0])
    assert len(seen) > 0.95 * (len(f) - len(wall_faces))


def test_gains_are_recovered(rng: np.random.Generator) -> None:
    true = np.exp(rng.normal(0, 0.1, (5, 3)))
    colors = rng.uniform(40, 200, (300, 3)).astype(np.float32)
    samples = []
    for k in range(5):
        index = np.sort(rng.choice(300, 200, replace=False))
        samples.append((index, (colors[index] / true[k]).astype(np.float32)))
    found = even_gains(samples, 300, 5, rounds=30)
    ratio = found / true
    np.testing.assert_allclose(ratio / ratio.mean(0), 1, atol=0.01)


def test_unseen_vertices_take_their_neighbours_colour() -> None:
    f = np.array([[0, 1, 2], [1, 3, 2], [2, 3, 4]])
    c = np.array([[100, 0, 0], [100, 0, 0], [100, 0, 0], [0, 0, 0], [0, 0, 0]], np.float32)
    out = spread_over_mesh(c, np.array([True, True, True, False, False]), f)
    np.testing.assert_allclose(out[3:], [[100, 0, 0]] * 2)


def test_ramp_falls_to_zero_at_edges() -> None:
    depth = np.full((40, 60), 2.0, np.float32)
    depth[:, 30:] = 3.0
    keep = np.ones((40, 60), bool)
    keep[:10] = False
    ramp = edge_ramp(depth, keep, 5.0)
    assert ramp[25, 15] == 1
    assert ramp[25, 30] == 0
    assert ramp[9, 15] == 0
    assert ramp[39, 15] == 0


def coloured_box(hidden: bool) -> tuple[np.ndarray, np.ndarray]:
    """What a photo of a plate gives to it, with or without something in front."""
    plate_v = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]], float)
    plate_f = np.array([[0, 1, 2], [0, 2, 3]])
    scene = RayScene()
    scene.add(plate_v, plate_f)
    if hidden:
        scene.add(plate_v * 0.5 + [0, 0, 1.0], plate_f)
    cam = Camera.simple(200, 200, 250.0)
    center = np.array([0.0, 0, 3.0])
    rotation = look_at(center, [0, 0, 0], up=(0, 1, 0))
    rgb = np.zeros((200, 200, 3), np.uint8)
    rgb[:, :100] = (200, 50, 50)
    rgb[:, 100:] = (50, 50, 200)
    view = prepare_photo(rgb, cam, rotation, center, scene, None, 2.0)
    points = np.array([[-0.4, 0, 0], [0.4, 0, 0], [-0.4, 0, 0]])
    normals = np.array([[0, 0, 1.0], [0, 0, 1], [0, 0, -1]])
    total = ColorSum(points, normals, 80.0)
    total.add(view)
    return total.colors()


def test_points_take_the_colour_that_the_photo_shows_there() -> None:
    colors, seen = coloured_box(hidden=False)
    assert seen.tolist() == [True, True, False]  # the third looks away
    np.testing.assert_allclose(colors[0], [200, 50, 50], atol=2)
    np.testing.assert_allclose(colors[1], [50, 50, 200], atol=2)


def test_what_something_hides_takes_no_colour() -> None:
    _, seen = coloured_box(hidden=True)
    assert not seen[:2].any()


def test_a_photo_made_crisper_is_nearer_to_itself_once_it_is_drawn(rng: np.random.Generator) -> None:
    """Drawing averages over the area of a pixel: what is put back before leaves less of a difference than nothing put back."""
    fine = ndimage.gaussian_filter(rng.random((240, 240, 3)), (3, 3, 0))
    fine = (fine - fine.min()) / np.ptp(fine) * 255

    def pixels(picture: np.ndarray) -> np.ndarray:
        """Averages over pixels that are four samples wide, at each sample."""
        return ndimage.uniform_filter(picture, (4, 4, 1))

    photo = pixels(fine)[2::4, 2::4]
    off = []
    for amount in (0.0, 0.5):
        taken = crisper(photo.round().astype(np.uint8), amount).astype(float)
        between = np.stack(
            [ndimage.zoom(taken[..., k], 4, order=3, grid_mode=True, mode="nearest") for k in range(3)], -1
        )
        drawn = pixels(between)[2::4, 2::4]
        off.append(float(np.sqrt(np.mean((drawn - photo)[5:-5, 5:-5] ** 2))))
    assert off[1] < 0.8 * off[0]


def test_normals_helper_agrees_with_trimesh(rng: np.random.Generator) -> None:
    v, f = bumpy_ball(rng)
    theirs = trimesh.Trimesh(v, f, process=False).face_normals
    mine = vertex_normals(v, f)[f].mean(1)
    assert ((mine * theirs).sum(1) > 0.9).all()
    assert pytest.approx(1, abs=1e-6) == np.linalg.norm(vertex_normals(v, f)[0])


def test_splinters_always_find_a_place_in_the_atlas(rng: np.random.Generator) -> None:
    """A mesh in thousands of pieces is mostly padding: it gets a larger atlas, or less padding, but never nothing."""
    n = 300
    corner = rng.uniform(0, 1, (n, 1, 3))
    v = (corner + rng.normal(0, 0.004, (n, 3, 3))).reshape(-1, 3)
    f = np.arange(3 * n).reshape(n, 3)
    charts = Charts(np.arange(n), np.zeros(n, np.int64))
    for size, largest in ((64, 512), (48, 48), (16, 16)):
        atlas = unwrap(v, f, charts, size, 4000.0, largest=largest)
        assert atlas.size <= largest
        assert len(atlas.faces) == n
        assert (atlas.uv > -1).all()
        assert (atlas.uv < atlas.size).all()
    assert unwrap(v, f, charts, 64, 4000.0, largest=512).size > 64


def test_what_photos_show_of_points_is_what_plain_numpy_says(rng: np.random.Generator) -> None:
    lens = Camera(320, 240, 300.0, 310.0, 158.0, 121.0, -0.1, 0.03, 0.0, 0.001, -0.0005)
    center = np.array([0.3, -0.2, -2.0])
    rotation = look_at(center, [0.0, 0.0, 0.0])
    # many blocks, and not a whole number of them; some beside the picture, behind it, turned away, hidden
    points = rng.uniform([-1.2, -0.9, -3.0], [1.2, 0.9, 0.8], (20 * BLOCK + 77, 3)).astype(np.float32)
    normals = rng.normal(0, 1, points.shape).astype(np.float32)
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    px, z = project(lens, rotation, center, points)
    depth = rng.uniform(1.5, 2.5, (120, 160)).astype(np.float32)
    ramp = rng.uniform(-0.2, 1, (120, 160)).astype(np.float32).clip(0)
    at, weight = np.zeros((len(points), 2), np.float32), np.zeros(len(points), np.float32)
    shown(
        points, normals, rotation, center, lens.vector, view_limit(lens), (240, 320), depth, ramp, 0.05, at, weight
    )  # fmt: skip
    to = center - points
    cosine = (to * normals).sum(1) / np.linalg.norm(to, axis=1)
    x, y = ((points - center) @ rotation.T)[:, :2].T / np.where(np.abs(z) < 1e-9, 1, z)
    ok = (cosine >= FLATTEST) & (z > 1e-9) & (x * x + y * y <= view_limit(lens))
    ok &= (px >= 1).all(1) & (px <= [320 - 2.001, 240 - 2.001]).all(1)
    i, j = (np.clip(((px[:, k] + 0.5) / 2).astype(int), 0, n - 1) for k, n in ((0, 160), (1, 120)))
    slack = depth[j, i] * (0.05 + 0.71 * np.sqrt(1 / np.clip(cosine, FLATTEST, 1) ** 2 - 1) / (0.5 * lens.fx))
    ok &= (ramp[j, i] > 0) & (np.abs(z - depth[j, i]) <= slack)
    assert 50 < ok.sum() < len(points) / 3
    np.testing.assert_allclose(weight, np.where(ok, cosine**2 * ramp[j, i] * (lens.fx / z) ** 2, 0), rtol=1e-4)
    np.testing.assert_allclose(at[ok], px[ok], atol=1e-3)
