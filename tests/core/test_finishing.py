"""Edits by records: what is selected, cut, closed, smoothed and placed, and what stays valid."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from vast_quarry.core.box import KeepBox
from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish import shaping
from vast_quarry.core.finish.edits import TexturedMesh, welded
from vast_quarry.core.finish.filling import filled, holes_of, least_area_triangles
from vast_quarry.core.finish.operations import OPERATIONS, apply_edit
from vast_quarry.core.finish.selecting import Surface, bridges, choose, grown, in_front
from vast_quarry.core.surface.mesh import open_edges, vertex_normals
from vast_quarry.pipeline.edits import edit_of

BOX = KeepBox((-0.6, -0.6, -0.6), (0.6, 0.6, 0.6))


def textured(mesh) -> TexturedMesh:
    v, f = np.array(mesh.vertices, float), np.array(mesh.faces, np.int64)
    return TexturedMesh(v, vertex_normals(v, f), np.abs(v[:, :2]) % 1, f)


def ball(level=4, radius=1.0) -> TexturedMesh:
    return textured(trimesh.creation.icosphere(level, radius=radius))


def body(mesh: TexturedMesh):
    return trimesh.Trimesh(*welded(mesh), process=False)


def do(mesh, **edit):
    return apply_edit(mesh, edit_of(edit).model_dump(), BOX)


def looking(eye, at=(0, 0, 0), field=60.0):
    """World to clip space of a camera, row by row."""
    z = np.asarray(eye, float) - at
    z /= np.linalg.norm(z)
    x = np.cross([0, 0, 1.0], z)
    x /= np.linalg.norm(x)
    view = np.eye(4)
    view[:3, :3] = np.stack([x, np.cross(z, x), z])
    view[:3, 3] = -view[:3, :3] @ eye
    f = 1 / np.tan(np.radians(field) / 2)
    near, far = 0.01, 100
    clip = np.array(
        [[f, 0, 0, 0], [0, f, 0, 0], [0, 0, (far + near) / (near - far), 2 * far * near / (near - far)], [0, 0, -1, 0]]
    )
    return clip @ view


def test_an_outline_takes_what_is_in_front_alone():
    mesh = ball()
    matrix = looking((0, -4, 0)).ravel().tolist()
    outline = [[-1, -1], [1, -1], [1, 1], [-1, 1]]
    surface = Surface(*welded(mesh))
    front = choose(surface, [{"by": "outline", "outline": outline, "matrix": matrix}])
    through = choose(surface, [{"by": "outline", "outline": outline, "matrix": matrix, "front": False}])
    assert through.all()
    # from 4 radii away a little less than half of a ball is seen: y < -1/4
    assert (front == (surface.middles[:, 1] < -0.25)).mean() > 0.97
    left = do(mesh, kind="delete", outline=outline, matrix=matrix, front=True)
    assert left.vertices[:, 1].max() == pytest.approx(1, abs=1e-9)
    with pytest.raises(PlainError):
        do(mesh, kind="delete", outline=outline, matrix=matrix)


def test_what_another_part_hides_is_not_in_front():
    two = trimesh.util.concatenate(
        [trimesh.creation.icosphere(3), trimesh.creation.icosphere(3).apply_translation([0, 3, 0])]
    )
    surface = Surface(*welded(textured(two)))
    seen = in_front(surface, looking((0, -5, 0)))
    assert not seen[surface.middles[:, 1] > 1.5].any()


def test_selections_are_put_together():
    s = Surface(*welded(ball()))
    top, right = {"by": "height", "low": 0.0}, {"by": "side", "point": [0, 0, 0], "normal": [1, 0, 0]}
    z, x = s.middles[:, 2] >= 0, s.middles[:, 0] > 0
    for how, wanted in (("replace", x), ("add", z | x), ("subtract", z & ~x), ("intersect", z & x)):
        np.testing.assert_array_equal(choose(s, [top, {**right, "how": how}]), wanted)
    np.testing.assert_array_equal(choose(s, [top, {"by": "invert"}]), ~z)
    assert choose(s, [top, {"by": "grow", "rings": 2}]).sum() > z.sum() > choose(s, [top, {"by": "shrink"}]).sum()
    back = choose(s, [top, {"by": "grow", "rings": 2}, {"by": "shrink", "rings": 2}])
    assert (back & z).sum() == z.sum()


def test_selecting_by_form_and_by_what_hangs_together():
    box = textured(trimesh.creation.box().subdivide().subdivide())
    s = Surface(*welded(box))
    side = choose(s, [{"by": "flood", "at": [[0, 0, 0.5]], "angle": 20}])
    np.testing.assert_array_equal(side, s.middles[:, 2] > 0.499)
    np.testing.assert_array_equal(choose(s, [{"by": "slope", "low": 0, "high": 10}]), side)
    assert choose(s, [{"by": "flood", "at": [[0, 0, 0.5]], "angle": 100}]).all()
    two = textured(
        trimesh.util.concatenate(
            [trimesh.creation.icosphere(3), trimesh.creation.icosphere(1).apply_translation([3, 0, 0])]
        )
    )
    s = Surface(*welded(two))
    small = s.middles[:, 0] > 1.5
    np.testing.assert_array_equal(choose(s, [{"by": "part", "at": [[3, 0, 0]]}]), small)
    np.testing.assert_array_equal(choose(s, [{"by": "small parts", "share": 0.2}]), small)
    np.testing.assert_array_equal(choose(s, [{"by": "largest"}]), ~small)
    np.testing.assert_array_equal(choose(s, [{"by": "ball", "at": [[3, 0, 0]], "radius": 1.2}]), small)
    np.testing.assert_array_equal(choose(s, [{"by": "box", "low": [2, -1, -1], "high": [4, 1, 1]}]), small)
    assert not choose(s, [{"by": "rims"}]).any()


def test_a_narrow_bridge_is_found_and_cut():
    v, f = welded(ball(4))
    other = v + np.array([2.3, 0, 0])
    # a strip of two faces from one ball to the other
    a, b = np.argsort(-v[:, 0])[:2]
    c, d = np.argsort(other[:, 0])[:2]
    n = len(v)
    f2 = np.concatenate([f, f + n, [[a, b, n + c], [b, n + d, n + c]]])
    mesh = textured(trimesh.Trimesh(np.concatenate([v, other]), f2, process=False))
    surface = Surface(*welded(mesh))
    found = bridges(surface, np.ones(len(f2), bool))
    assert found.any()
    assert np.abs(surface.middles[found][:, 0] - 1.15).max() < 0.35
    from vast_quarry.core.surface.mesh import components

    apart = do(mesh, kind="bridges")
    assert components(welded(apart)[1]).max() >= 1
    with pytest.raises(PlainError):
        do(ball(3), kind="bridges")


@pytest.mark.parametrize("height", [-0.7, 0.0, 0.55])
def test_a_closed_cut_is_flat_and_watertight(height):
    cut = do(ball(), kind="cut", at="height", height=height, closed=True)
    assert body(cut).is_watertight
    assert cut.vertices[:, 2].min() == pytest.approx(height, abs=1e-6)
    lower = do(ball(), kind="cut", at="height", height=height, closed=True, upper=True)
    assert body(cut).volume + body(lower).volume == pytest.approx(body(ball()).volume, rel=1e-6)
    tilted = do(ball(), kind="cut", at="plane", point=[0, 0, 0], normal=[1, 1, 1], closed=True)
    assert body(tilted).volume == pytest.approx(body(ball()).volume / 2, rel=1e-6)
    with pytest.raises(PlainError):
        do(ball(), kind="cut", at="plane", point=[0, 0, 0], normal=[0, 0, 0])
    with pytest.raises(PlainError):
        do(ball(), kind="cut", at="height", height=5)


def test_a_hole_in_a_ball_is_closed_as_the_ball_was():
    whole = ball(5)
    gone = do(whole, kind="delete", where=[{"by": "ball", "at": [[0, 0, 1]], "radius": 0.4}])
    assert not body(gone).is_watertight
    shut = do(gone, kind="fill", how="smooth")
    assert body(shut).is_watertight
    new = welded(shut)[0][:, 2] > 0.95
    assert np.abs(np.linalg.norm(welded(shut)[0][new], axis=1) - 1).max() < 0.02
    flat = do(gone, kind="fill", how="flat")
    assert body(flat).is_watertight
    assert body(flat).volume < body(shut).volume
    assert body(shut).volume == pytest.approx(body(whole).volume, rel=2e-3)


def test_holes_are_listed_and_closed_one_by_one():
    mesh = do(ball(4), kind="delete", where=[{"by": "ball", "at": [[0, 0, 1]], "radius": 0.5}])
    mesh = do(mesh, kind="delete", where=[{"by": "ball", "at": [[1, 0, 0]], "radius": 0.2}])
    holes = holes_of(*welded(mesh))
    assert len(holes) == 2
    assert holes[0].across > holes[1].across
    assert holes[1].middle == pytest.approx([1, 0, 0], abs=0.1)
    one = do(mesh, kind="fill", at=[1, 0, 0])
    assert len(holes_of(*welded(one))) == 1
    assert len(holes_of(*welded(do(mesh, kind="fill", largest=0.7)))) == 1
    with pytest.raises(PlainError):
        do(ball(3), kind="fill")


def test_least_area_closes_a_flat_square_with_its_own_area():
    rim = np.array([[0, 0, 0], [1, 0, 0], [2, 0, 0], [2, 1, 0], [2, 2, 0], [0, 2, 0]], float)
    t = least_area_triangles(rim)
    assert len(t) == 4
    area = np.linalg.norm(np.cross(rim[t[:, 1]] - rim[t[:, 0]], rim[t[:, 2]] - rim[t[:, 0]]), axis=1).sum() / 2
    assert area == pytest.approx(4)


def test_smoothing_takes_noise_and_keeps_volume_and_texture():
    rng = np.random.default_rng(0)
    mesh = ball(4)
    v = mesh.vertices * (1 + 0.01 * rng.standard_normal(len(mesh.vertices)))[:, None]
    noisy = TexturedMesh(v, mesh.normals, mesh.uv, mesh.faces)
    soft = do(noisy, kind="smooth", passes=10)
    assert np.linalg.norm(soft.vertices, axis=1).std() < 0.4 * np.linalg.norm(v, axis=1).std()
    assert body(soft).volume == pytest.approx(body(noisy).volume, rel=0.005)
    np.testing.assert_array_equal(soft.uv, mesh.uv)
    assert not soft.retexture
    part = do(noisy, kind="smooth", where=[{"by": "height", "low": 0.5}], soft=3)
    still = v[:, 2] < 0.45
    np.testing.assert_allclose(part.vertices[still], v[still], atol=1e-12)
    assert not np.allclose(part.vertices, v)


def test_flattening_raising_and_sharpening():
    rng = np.random.default_rng(1)
    mesh = textured(trimesh.creation.box((1, 1, 0.2)).subdivide().subdivide().subdivide().subdivide())
    top = [{"by": "height", "low": 0.06}]
    v = mesh.vertices + 0.01 * rng.standard_normal(mesh.vertices.shape) * (mesh.vertices[:, 2:] > 0.09)
    rough = TexturedMesh(v, mesh.normals, mesh.uv, mesh.faces)
    flat = do(rough, kind="flatten", where=top)
    inner = (np.abs(mesh.vertices[:, :2]).max(1) < 0.4) & (mesh.vertices[:, 2] > 0.09)
    assert flat.vertices[inner, 2].std() < 1e-3 < v[inner, 2].std()
    high = do(mesh, kind="raise", brush=[[0, 0, 0.1]], radius=0.3, by=0.05)
    assert high.vertices[:, 2].max() == pytest.approx(0.15, abs=2e-3)
    assert np.abs(high.vertices - mesh.vertices)[np.linalg.norm(mesh.vertices[:, :2], axis=1) > 0.31].max() < 1e-9
    crisp = shaping.sharpened(*welded(ball(2)), np.ones(len(welded(ball(2))[0])), 0.0)
    np.testing.assert_allclose(crisp, welded(ball(2))[0], atol=1e-12)
    for bad in ({"brush": [[0, 0, 0]]}, {"brush": [[0, 0, 0]], "radius": None}):
        with pytest.raises(PlainError):
            do(mesh, kind="raise", by=0.1, **bad)


def test_placing_turns_shifts_and_scales_the_whole():
    mesh = textured(trimesh.creation.box((1, 2, 3)))
    lying = do(mesh, kind="place", turn=[90, 0, 0])
    np.testing.assert_allclose(np.ptp(lying.vertices, axis=0), [1, 3, 2], atol=1e-12)
    up = do(lying, kind="level", at=[[0, -1.5, 0]])
    np.testing.assert_allclose(np.sort(np.ptp(up.vertices, axis=0)), [1, 2, 3], atol=1e-9)
    assert np.ptp(up.vertices[:, 2]) == pytest.approx(3)
    based = do(up, kind="center")
    assert based.vertices[:, 2].min() == pytest.approx(0, abs=1e-12)
    np.testing.assert_allclose(based.vertices[:, :2].min(0) + based.vertices[:, :2].max(0), 0, atol=1e-12)
    a, b = based.vertices[0], based.vertices[7]
    sized = do(based, kind="scale", at=[a.tolist(), b.tolist()], length=0.5)
    assert np.linalg.norm(sized.vertices[0] - sized.vertices[7]) == pytest.approx(0.5)
    # all of it can be taken back at once
    np.testing.assert_allclose(sized.back().vertices, mesh.vertices, atol=1e-9)
    assert not sized.retexture
    two = do(mesh, kind="level", at=[[0, 0, 0], [1, 0, 0]])
    assert np.ptp(two.vertices[:, 2]) == pytest.approx(1)
    for bad in (
        {"kind": "scale", "at": [[0, 0, 0], [0, 0, 0]], "length": 1},
        {"kind": "level", "at": [[0, 0, 0], [0, 0, 0]]},
    ):
        with pytest.raises(PlainError):
            do(mesh, **bad)


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 10_000), st.floats(-0.8, 0.8), st.floats(0, 6.3))
def test_cuts_of_any_body_stay_closed(seed, height, turn):
    rng = np.random.default_rng(seed)
    mesh = ball(3)
    v = mesh.vertices * rng.uniform(0.6, 1.4, 3) * (1 + 0.03 * rng.standard_normal(len(mesh.vertices)))[:, None]
    mesh = TexturedMesh(v, mesh.normals, mesh.uv, mesh.faces)
    normal = [float(np.cos(turn)), float(np.sin(turn)), 0.7]
    try:
        cut = do(mesh, kind="cut", at="plane", point=[0, 0, height], normal=normal, closed=True)
    except PlainError:
        assert ((v - [0, 0, height]) @ normal).max() < 0.2
        return
    _, f = welded(cut)
    assert not len(open_edges(f))
    assert body(cut).volume > 0


def test_every_kind_of_edit_is_done_by_record_and_by_rule():
    from typing import get_args

    from vast_quarry.pipeline.edits import Edit

    kinds = {get_args(e.model_fields["kind"].annotation)[0] for e in get_args(get_args(Edit)[0])}
    assert kinds == set(OPERATIONS)
    for bad in (
        {"kind": "fold"},
        {"kind": "cut", "at": "height", "height": float("nan")},
        {"kind": "delete"},
        {"kind": "smooth", "passes": 0},
    ):
        with pytest.raises(PlainError):
            edit_of(bad)
    with pytest.raises(PlainError):
        do(ball(2), kind="keep", where=[{"by": "height", "low": 50}])
    s = Surface(*welded(ball(2)))
    with pytest.raises(PlainError):
        choose(s, [{"by": "smell"}])
    with pytest.raises(PlainError):
        choose(s, [{"by": "ball"}])
    assert grown(s, np.zeros(len(s.faces), bool), 3).sum() == 0
    v, f = filled(*welded(ball(2)), [])
    assert len(f) == len(s.faces)
    assert len(v) == len(s.vertices)
