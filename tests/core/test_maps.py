"""Baked maps against what can be worked out by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import trimesh

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.hemisphere import _rays, directions, openness
from vast_quarry.core.finish.maps import Request, bake
from vast_quarry.core.finish.tangents import tangents
from vast_quarry.core.finish.unwrapping import WAYS, stretch_and_fill, unwrapped
from vast_quarry.core.formats.models import Model
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import vertex_normals


def plain(mesh) -> Model:
    v, f = np.array(mesh.vertices, float), np.array(mesh.faces, np.int64)
    return Model(v, vertex_normals(v, f), f)


def with_uv(mesh, size=256, way="ours") -> Model:
    return unwrapped(np.array(mesh.vertices, float), np.array(mesh.faces, np.int64), size, way).model


def sheet(side=1.0, z=0.0, steps=1) -> Model:
    t = np.linspace(0, 1, steps + 1)
    x, y = np.meshgrid(t, t)
    n = (np.arange(steps)[:, None] * (steps + 1) + np.arange(steps)).ravel()
    f = np.concatenate([np.stack([n, n + 1, n + steps + 2], 1), np.stack([n, n + steps + 2, n + steps + 1], 1)])
    v = np.stack([side * x.ravel(), side * y.ravel(), np.full(x.size, z)], 1)
    # the picture's rows run down, y runs up
    return Model(v, np.tile([0.0, 0, 1], (len(v), 1)), f, np.stack([x.ravel(), 1 - y.ravel()], 1))


def test_onto_itself_normals_are_flat_and_nothing_is_missed():
    body = with_uv(trimesh.creation.icosphere(3))
    made = bake(body, body, Request(("normal", "height"), 256, 1))
    seen = made.pictures["normal"].astype(int)
    # common practice, no source: a mesh baked onto itself gives a flat normal map
    assert (np.abs(seen - [255, 128, 128]).max(2) <= 1).mean() > 0.999
    assert made.figures["missed_percent"] == 0
    assert max(np.abs(made.ranges["height"])) < 1e-5


def test_a_convex_body_is_open_all_over():
    body = with_uv(trimesh.creation.icosphere(3))
    made = bake(body, body, Request(("occlusion",), 128, 1, rays=64))
    assert made.pictures["occlusion"].min() >= 254


def test_a_sphere_onto_its_coarse_version_has_the_sphere_s_normals():
    fine = plain(trimesh.creation.icosphere(5))
    coarse = with_uv(trimesh.creation.icosphere(2))
    made = bake(fine, coarse, Request(("normal-object",), 512, 1))
    from vast_quarry.core.texture.packing import Atlas
    from vast_quarry.core.texture.texels import band_of_texels

    atlas = Atlas(coarse.uv * 512 - 0.5, np.arange(len(coarse.vertices)), coarse.faces, 512, 1.0)
    t = band_of_texels(atlas, 0, 512)
    inside = t.weights.min(1) > 0
    p, n = t.mix(coarse.vertices, coarse.faces), t.mix(coarse.normals, coarse.faces)
    # where the ray along the coarse normal meets the unit sphere, its normal is that place
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    b = (p * n).sum(1)
    on = p + (-b + np.sqrt(b**2 - (p**2).sum(1) + 1))[:, None] * n
    seen = made.pictures["normal-object"][t.row, t.column, ::-1] / 127.5 - 1
    seen /= np.linalg.norm(seen, axis=1, keepdims=True)
    off = np.degrees(np.arccos(np.clip((seen * on).sum(1), -1, 1)))[inside]
    assert np.percentile(off, 99) < 1


def test_tangent_space_normals_say_which_way_is_up_in_the_picture():
    # a fine sheet that rises to the picture's top leans towards its bottom: green below the middle, red in the middle
    coarse, fine = sheet(), sheet(steps=4)
    slope = 0.2
    v = fine.vertices + np.stack(
        [0 * fine.vertices[:, 0], 0 * fine.vertices[:, 0], slope * (fine.vertices[:, 1] - 0.5)], 1
    )
    lean = np.array([0, -slope, 1]) / np.hypot(1, slope)
    fine = replace(fine, vertices=v, normals=np.tile(lean, (len(v), 1)))
    for green_up, sign in ((True, -1), (False, 1)):
        made = bake(fine, coarse, Request(("normal",), 64, 1, out=0.2, into=0.2, green_up=green_up))
        b, g, r = made.pictures["normal"][20:44, 20:44].reshape(-1, 3).mean(0) / 127.5 - 1
        assert r == pytest.approx(0, abs=0.01)
        assert g == pytest.approx(sign * slope / np.hypot(1, slope), abs=0.01)
        assert b == pytest.approx(1 / np.hypot(1, slope), abs=0.01)


def test_tangents_follow_the_texture_and_are_square_to_the_normals():
    body = with_uv(trimesh.creation.icosphere(3))
    t = tangents(body.vertices, body.normals, body.uv, body.faces)
    np.testing.assert_allclose(np.linalg.norm(t[:, :3], axis=1), 1, atol=1e-9)
    np.testing.assert_allclose((t[:, :3] * body.normals).sum(1), 0, atol=1e-9)
    flat = sheet()
    t = tangents(flat.vertices, flat.normals, flat.uv, flat.faces)
    np.testing.assert_allclose(t, np.tile([1.0, 0, 0, 1], (4, 1)), atol=1e-12)
    mirrored = replace(flat, uv=flat.uv * [-1, 1] + [1, 0])
    t = tangents(mirrored.vertices, mirrored.normals, mirrored.uv, mirrored.faces)
    np.testing.assert_allclose(t, np.tile([-1.0, 0, 0, -1], (4, 1)), atol=1e-12)


def test_beside_a_wall_half_of_the_corner_s_light_is_gone():
    """Howell, J. R., A Catalog of Radiation Heat Transfer Configuration Factors, B-4 (differential element to a rectangle in a plane at
    90 degrees; from memory): F = (atan(1/Y) - Y / sqrt(X^2 + Y^2) atan(1 / sqrt(X^2 + Y^2))) / (2 pi) with X = height / length of the
    wall and Y = distance / length, the element before one end of it."""

    def share(distance, height, length):
        x, y = height / length, distance / length
        a = np.sqrt(x**2 + y**2)
        return (np.arctan(1 / y) - y / a * np.arctan(1 / a)) / (2 * np.pi)

    scene = RayScene()
    # a wall 4 long and 1 high at x = 0, seen from before its middle: twice the share of half of it
    scene.add([[0, -2, 0], [0, 2, 0], [0, 2, 1], [0, -2, 1]], [[0, 1, 2], [0, 2, 3]])
    for distance in (0.1, 0.5, 1.5):
        found = openness(scene, np.array([[distance, 0, 0]] * 8), np.array([[0.0, 0, 1]] * 8), 4096, 1e-5).mean()
        assert 1 - found == pytest.approx(2 * share(distance, 1, 2), abs=0.004)


def test_occlusion_in_a_corner_is_baked_at_each_texel_where_faces_are_large():
    v = np.array([[0, -9, 0], [1, -9, 0], [1, 10, 0], [0, 10, 0], [0, -9, 9], [0, 10, 9]], float)
    f = np.array([[0, 1, 2], [0, 2, 3], [0, 3, 5], [0, 5, 4]])
    fine = Model(v, vertex_normals(v, f), f)
    made = bake(fine, sheet(), Request(("occlusion",), 64, 1, rays=256))
    seen = made.pictures["occlusion"][32] / 255
    assert seen[1] == pytest.approx(0.5, abs=0.06)
    assert seen[-1] > seen[20] > seen[1]


def test_height_of_steps_is_told_in_lengths():
    coarse = sheet()
    low, high = sheet(0.5), sheet(0.5, 0.012)
    high = replace(high, vertices=high.vertices + np.array([0.5, 0.5, 0]))
    both = Model(
        np.concatenate([low.vertices, high.vertices]),
        np.tile([0.0, 0, 1], (8, 1)),
        np.concatenate([low.faces, high.faces + 4]),
    )
    made = bake(both, coarse, Request(("height",), 64, 1, out=0.05, into=0.05))
    black, white = made.ranges["height"]
    height = black + made.pictures["height"] / 65535 * (white - black)
    assert height[48, 16] == pytest.approx(0, abs=1e-6)  # lower left
    assert height[16, 48] == pytest.approx(0.012, abs=1e-6)  # upper right
    # the other two quarters have nothing above or below them
    assert made.figures["missed_percent"] == pytest.approx(50, abs=3)
    assert made.missed[16, 16] == 1


def test_thickness_and_colours():
    coarse = sheet(steps=2)
    picture = np.zeros((4, 4, 3), np.uint8)
    picture[:2, :, 2], picture[2:, :, 0] = 200, 100  # red above, blue below
    body = trimesh.creation.box((1, 1, 0.25))
    body.apply_translation([0.5, 0.5, -0.125])
    made = bake(plain(body.subdivide_to_size(0.05)), coarse, Request(("thickness",), 64, 1))
    white = made.ranges["thickness"][1]
    assert made.pictures["thickness"][32, 32] / 65535 * white == pytest.approx(0.25, rel=0.1)
    made = bake(replace(sheet(), picture=picture), coarse, Request(("color",), 64, 2))
    np.testing.assert_array_equal(made.pictures["color"][8, 30], [0, 0, 200])
    np.testing.assert_array_equal(made.pictures["color"][56, 30], [100, 0, 0])


@pytest.mark.parametrize("way", WAYS)
def test_coordinates_lie_within_the_picture_and_do_not_overlap(way):
    found = unwrapped(
        *[np.array(x) for x in (lambda m: (m.vertices, m.faces))(trimesh.creation.icosphere(3))], 512, way
    )
    assert found.model.uv.min() >= 0
    assert found.model.uv.max() <= 1
    assert 1 <= found.stretch < 1.5
    assert 0.3 < found.fill < 1
    made = bake(plain(trimesh.creation.icosphere(3)), found.model, Request(("height",), 512, 1))
    assert made.figures["overlap_percent"] < 1


def test_a_plane_laid_out_as_it_is_has_no_stretch():
    assert stretch_and_fill(sheet()) == pytest.approx((1, 1))


def test_kernel_and_numpy_cast_the_same_rays():
    rng = np.random.default_rng(0)
    n = rng.standard_normal((20, 3)).astype(np.float32)
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    p = rng.random((20, 3)).astype(np.float32)
    cone = directions(16)
    out = np.empty((20 * 16, 6), np.float32)
    _rays(p, n, cone, np.zeros(20, np.float32), np.float32(0.1), out)
    rays = out.reshape(20, 16, 6)
    np.testing.assert_allclose(rays[:, 0, :3], p + 0.1 * n, atol=1e-6)
    # a turn of the cone keeps lengths and the angle with the normal
    np.testing.assert_allclose(np.linalg.norm(rays[..., 3:], axis=2), 1, atol=1e-5)
    np.testing.assert_allclose((rays[..., 3:] * n[:, None]).sum(2), np.tile(cone[:, 2], (20, 1)), atol=1e-5)
    inner = np.einsum("nkd,njd->nkj", rays[..., 3:], rays[..., 3:])
    np.testing.assert_allclose(inner, np.broadcast_to(cone @ cone.T, inner.shape), atol=1e-5)


def test_what_cannot_be_baked_is_told():
    body = with_uv(trimesh.creation.icosphere(2))
    far = replace(body, vertices=body.vertices + 10)
    outside = replace(body, uv=body.uv * 3)
    bare = replace(body, uv=None)
    for fine, coarse, maps in (
        (body, far, ("normal",)), (body, outside, ("normal",)), (body, bare, ("normal",)), (body, body, ("shine",)),
        (body, body, ("color",)), (body, body, ("evidence",)),
    ):  # fmt: skip
        with pytest.raises(PlainError):
            bake(fine, coarse, Request(maps, 32, 1))
