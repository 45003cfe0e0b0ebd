"""Colours of a textured model stay when edits make another mesh of it."""

from __future__ import annotations

import io

import numpy as np
import pytest
from PIL import Image

from vast_quarry.core.finish.baking import Coloured, carried
from vast_quarry.core.finish.edits import TexturedMesh, fewer_faces, vertex_colors, welded
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.server.services.drafts import with_colors

SIDE = 256


def sheet(cells: int, height: float = 0.0, turned: bool = False) -> TexturedMesh:
    """A flat unit square of so many cells a side, its texture laid straight or turned by a quarter."""
    u, v = np.meshgrid(np.linspace(0, 1, cells + 1), np.linspace(0, 1, cells + 1))
    vertices = np.stack([u.ravel(), v.ravel(), np.full(u.size, height)], 1)
    at = np.arange(u.size).reshape(u.shape)
    a, b, c, d = at[:-1, :-1].ravel(), at[:-1, 1:].ravel(), at[1:, 1:].ravel(), at[1:, :-1].ravel()
    faces = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
    uv = np.stack([u.ravel(), v.ravel()], 1)
    uv = np.stack([uv[:, 1], 1 - uv[:, 0]], 1) if turned else uv
    return TexturedMesh(vertices, vertex_normals(vertices, faces), 0.02 + 0.96 * uv, faces)


def painted(dtype: type = np.uint8) -> np.ndarray:
    """A picture that tells where each texel is: red across, green down; and a blue spot that was mended there."""
    scale = 1 if dtype == np.uint8 else 257
    x, y = np.meshgrid(np.arange(SIDE), np.arange(SIDE))
    out = np.stack([np.zeros_like(x), y, x], -1)
    out[100:140, 60:100, 0] = 255
    return np.ascontiguousarray(out * scale, dtype)


def colours_at(mesh: TexturedMesh, picture: np.ndarray) -> np.ndarray:
    at = np.clip((mesh.uv * SIDE).astype(int), 0, SIDE - 1)
    return np.asarray(picture[at[:, 1], at[:, 0]], float)


@pytest.mark.parametrize("dtype", [np.uint8, np.uint16])
def test_an_edited_model_keeps_its_colours_and_what_is_new_those_it_got(dtype: type) -> None:
    old, new = Coloured(sheet(40), painted(dtype)), sheet(13, turned=True)
    # a cap stands off the surface: it was not there before
    cap = sheet(13, height=0.5)
    both = TexturedMesh(
        np.concatenate([new.vertices, cap.vertices]),
        np.concatenate([new.normals, cap.normals]),
        np.concatenate([new.uv * (0.5, 1), cap.uv * (0.5, 1) + (0.5, 0)]),
        np.concatenate([new.faces, cap.faces + len(new.vertices)]),
    )
    picture = np.full((SIDE, SIDE, 3), 7, dtype)
    share = carried(both, picture, old)
    assert share == pytest.approx(0.5, abs=0.02)
    expected = colours_at(sheet(13), painted(dtype))
    got = colours_at(both, picture)
    scale = np.iinfo(dtype).max / 255
    inner = (np.abs(new.vertices[:, :2] - 0.5) < 0.48).all(1)
    # apart from the rim of the spot, where texels of the two lie otherwise
    off = np.abs(got[: len(inner)][inner] - expected[inner]).max(1) / scale
    assert np.median(off) < 3
    assert (off < 8).mean() > 0.93
    assert (got[len(new.vertices) :] == 7).all()


def test_vertices_have_the_colours_of_the_texture() -> None:
    mesh = sheet(20)
    vertices, _ = welded(mesh)
    colors = vertex_colors(mesh, painted()).astype(float)
    # red across and green down, as the picture was painted
    for axis, channel in ((0, 2), (1, 1)):
        expected = (0.02 + 0.96 * vertices[:, axis]) * SIDE - 0.5
        np.testing.assert_allclose(colors[:, channel], expected, atol=1.5)


def test_a_decimated_draft_is_shown_in_its_colours() -> None:
    """It was a flat grey silhouette, with "textured" pressed."""
    before = sheet(40)
    edited = fewer_faces(before, 200)
    assert edited.retexture
    data = io.BytesIO()
    Image.fromarray(painted()[..., ::-1].copy()).save(data, "PNG")
    shown, image = with_colors(edited, before, data.getvalue())
    picture = np.asarray(Image.open(io.BytesIO(image)).convert("RGB"), float)
    assert len(shown.faces) <= 200
    at = np.clip((shown.uv * len(picture)).astype(int), 0, len(picture) - 1)
    red, green = picture[at[:, 1], at[:, 0], 0], picture[at[:, 1], at[:, 0], 1]
    assert np.corrcoef(red, shown.vertices[:, 0])[0, 1] > 0.97
    assert np.corrcoef(green, shown.vertices[:, 1])[0, 1] > 0.97
