"""Still pictures of a mesh in the first view."""

from __future__ import annotations

import io

import numpy as np
import trimesh
from PIL import Image

from vast_quarry.core.finish.poster import poster, poster_bytes


def cube() -> tuple[np.ndarray, np.ndarray]:
    box = trimesh.creation.box((1, 1, 1))
    return np.asarray(box.vertices, float) + 5.0, np.asarray(box.faces)


def test_the_mesh_fills_the_view_and_the_rest_is_clear() -> None:
    v, f = cube()
    picture = poster(v, f, side=120)
    there = picture[..., 3] > 127
    assert not there[:4].any()
    assert not there[:, :4].any()
    rows, columns = np.flatnonzero(there.any(1)), np.flatnonzero(there.any(0))
    # the sphere about a cube is touched by its corners only: the outline fills 70 to 100 % of the picture
    assert 0.7 * 120 < np.ptp(rows) < 120
    assert 0.6 * 120 < np.ptp(columns) < 120
    assert abs(columns.mean() - 60) < 7  # centred, but for perspective
    # three faces are seen, each in its own shade
    assert len(np.unique(picture[there][:, 0] // 4)) >= 3


def test_texture_lands_where_its_coordinates_say() -> None:
    # an upright square facing the viewer's side (-y), red on top, blue below
    v = np.array([[-1, 0, -1], [1, 0, -1], [1, 0, 1], [-1, 0, 1]], float)
    f = np.array([[0, 1, 2], [0, 2, 3]])
    uv = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], float)  # v runs down
    texture = np.zeros((64, 64, 3), np.uint8)
    texture[:32] = (200, 10, 10)
    texture[32:] = (10, 10, 200)
    picture = poster(v, f, uv, texture, side=100)
    assert (picture[42, 50, :3] == (200, 10, 10)).all()
    assert (picture[58, 50, :3] == (10, 10, 200)).all()


def test_bytes_are_a_picture_with_alpha() -> None:
    image = Image.open(io.BytesIO(poster_bytes(*cube())))
    assert image.format == "WEBP"
    assert image.mode == "RGBA"
