"""Simpler levels of a model: fewer triangles, an atlas of their own, and the colours where they were."""

from __future__ import annotations

import numpy as np
import trimesh

from vast_quarry.core.finish.edits import TexturedMesh, welded
from vast_quarry.core.finish.levels import FEWEST_FACES, SMALLEST_SIDE, simpler, size_of_level
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.texture.charts import make_charts
from vast_quarry.core.texture.packing import unwrap
from vast_quarry.core.texture.texels import band_of_texels, fill_between


def colors_of(points: np.ndarray) -> np.ndarray:
    """Waves of colour through space, (K, 3) bytes."""
    return (127.5 + 90 * np.sin(points * [7.0, 5.0, 6.0] + [0.3, 1.0, 2.0])).astype(np.uint8)


def painted(v: np.ndarray, f: np.ndarray, size: int, paint=colors_of) -> tuple[TexturedMesh, np.ndarray]:  # type: ignore[no-untyped-def]
    """A mesh with an atlas painted by what is at each place, given (points, normals)."""
    area = trimesh.Trimesh(v, f, process=False).area
    atlas = unwrap(v, f, make_charts(v, f), size, size * np.sqrt(0.6 / area), largest=size)
    t = band_of_texels(atlas, 0, atlas.size)
    corner = atlas.wedge_vertex[atlas.faces]
    picture = np.zeros((atlas.size, atlas.size, 3), np.uint8)
    picture[t.row, t.column] = paint(t.mix(v, corner))
    covered = np.zeros(picture.shape[:2], bool)
    covered[t.row, t.column] = True
    fill_between(picture, covered)
    n = vertex_normals(v, f)
    return TexturedMesh(
        v[atlas.wedge_vertex], n[atlas.wedge_vertex], (atlas.uv + 0.5) / atlas.size, atlas.faces
    ), picture


def shown(
    mesh: TexturedMesh, picture: np.ndarray, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Random places on a model, the colours it shows there, and the normals of their faces."""
    body = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False)
    points, face = trimesh.sample.sample_surface(body, 4000, seed=1)
    b = trimesh.triangles.points_to_barycentric(body.triangles[face], points)
    uv = (b[:, :, None] * mesh.uv[mesh.faces[face]]).sum(1)
    at = np.clip(np.round(uv * len(picture) - 0.5).astype(int), 0, len(picture) - 1)
    return points, picture[at[:, 1], at[:, 0]], body.face_normals[face]


def test_each_level_is_simpler_and_shows_the_colours_where_they_are(rng: np.random.Generator) -> None:
    ball = trimesh.creation.icosphere(5)
    mesh, picture = painted(np.array(ball.vertices), np.array(ball.faces), 1024)
    before = len(mesh.faces)
    for level in (1, 2, 3):
        made, colors = simpler(mesh, picture, level)
        faces, side = size_of_level(before, 1024, level)
        assert abs(len(made.faces) - faces) <= 0.02 * faces + 2
        assert colors.shape == (side, side, 3)
        assert side == max(SMALLEST_SIDE, 1024 >> level)
        points, seen, _ = shown(made, colors, rng)
        off = np.abs(seen.astype(int) - colors_of(points / np.linalg.norm(points, axis=1, keepdims=True)))
        # a chord lies below the ball, and a texel is about as wide as the waves change by this
        assert np.median(off) < 4
        assert np.quantile(off, 0.99) < 25
        plain_v, plain_f = welded(made)
        assert trimesh.Trimesh(plain_v, plain_f, process=False).is_watertight
        assert np.abs(np.linalg.norm(plain_v, axis=1) - 1).max() < 0.05


def test_a_small_model_is_left_alone() -> None:
    assert size_of_level(100, 128, 3) == (100, 128)
    assert size_of_level(1000, 512, 2) == (FEWEST_FACES, SMALLEST_SIDE)


def test_a_thin_sheet_keeps_a_colour_of_its_own_on_either_side(rng: np.random.Generator) -> None:
    """Red above, blue below, and wavy, so that simplifying moves each side beyond the other."""
    n = 60
    x, y = np.meshgrid(np.linspace(-1, 1, n), np.linspace(-1, 1, n))
    z = 0.02 * np.sin(25 * x) * np.sin(23 * y)
    flat = np.stack([x.ravel(), y.ravel(), z.ravel()], 1)
    k = np.arange(n * n).reshape(n, n)
    quads = np.stack([k[:-1, :-1], k[:-1, 1:], k[1:, 1:], k[1:, :-1]], -1).reshape(-1, 4)
    top = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    lift = np.array([0, 0, 0.004])
    v = np.concatenate([flat + lift, flat - lift])
    f = np.concatenate([top, top[:, ::-1] + n * n])
    high = v[:, 2] - np.concatenate([z.ravel(), z.ravel()])
    mesh, picture = painted(v, f, 1024, lambda p: np.zeros((len(p), 3), np.uint8))
    # painted anew by side, for places on a slope say too little of it
    atlas_faces = np.sign(trimesh.Trimesh(mesh.vertices, mesh.faces, process=False).face_normals[:, 2])
    assert (high > 0).sum() == n * n
    for face, side in zip(mesh.faces, atlas_faces):
        at = (mesh.uv[face] * 1024).astype(int)
        low, top_ = np.maximum(at.min(0) - 1, 0), at.max(0) + 2
        picture[low[1] : top_[1], low[0] : top_[0]] = (220, 20, 20) if side > 0 else (20, 20, 220)
    made, colors = simpler(mesh, picture, 2)
    _, seen, facing = shown(made, colors, rng)
    up, down = facing[:, 2] > 0.5, facing[:, 2] < -0.5
    assert (seen[up, 0] > 150).mean() > 0.98
    assert (seen[down, 2] > 150).mean() > 0.98
