"""An atlas cut into several pictures: nothing crosses from one to the next, and each place shows the colour it had."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest
import trimesh
from tests.core.test_levels import colors_of

from vast_quarry.core.formats.gltf import write_glb
from vast_quarry.core.formats.obj import write_obj
from vast_quarry.core.formats.pictures import as_jpeg
from vast_quarry.core.formats.tiles import FIRST, tile_of
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.texture.charts import make_charts
from vast_quarry.core.texture.packing import Atlas, raster_faces, unwrap
from vast_quarry.core.texture.texels import band_of_texels, fill_between


def shape(kind: str) -> tuple[np.ndarray, np.ndarray]:
    """A ball, or a slab whose faces are as large as the whole atlas."""
    if kind == "ball":
        body = trimesh.creation.icosphere(4)
    else:
        body = trimesh.creation.box((2, 2, 0.05))
        for _ in range(5):
            body = body.subdivide()
        body.merge_vertices()
    return np.array(body.vertices, float), np.array(body.faces, np.int64)


def laid_out(v: np.ndarray, f: np.ndarray, side: int, tiles: int) -> Atlas:
    area = trimesh.Trimesh(v, f, process=False).area
    return unwrap(v, f, make_charts(v, f), side, side * np.sqrt(0.6 / area), largest=side, tiles=tiles)


@pytest.mark.parametrize("kind", ["ball", "slab"])
@pytest.mark.parametrize("tiles", [2, 3])
def test_no_face_crosses_from_one_picture_to_the_next(kind: str, tiles: int) -> None:
    v, f = shape(kind)
    side = 512 * tiles
    atlas = laid_out(v, f, side, tiles)
    assert atlas.size == side
    corner = (atlas.uv[atlas.faces] + 0.5) / side
    assert corner.min() > 0
    assert corner.max() < 1
    # the rim of a chart is drawn out by a texel: no corner may come nearer to a border than that
    inside = corner * tiles
    low, high = np.floor(inside - 1 / 512), np.floor(inside + 1 / 512)
    assert (low == low[:, :1]).all()
    assert (high == low).all()
    # charts that were cut lie beside, not over each other
    cover = raster_faces(atlas.uv, atlas.faces, side)
    e1, e2 = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    drawn = np.abs(e1[:, 0] * e2[:, 1] - e1[:, 1] * e2[:, 0]).sum() / 2 * side**2
    assert (cover >= 0).sum() > 0.97 * drawn
    whole = laid_out(v, f, side, 1)
    assert atlas.density > 0.8 * whole.density
    column, row = tile_of(corner.reshape(-1, 2), np.arange(3 * len(f)).reshape(-1, 3), tiles)
    assert len(np.unique(column * tiles + row)) == tiles**2


def painted(v: np.ndarray, f: np.ndarray, tiles: int) -> tuple[tuple[np.ndarray, ...], bytes]:
    """Parts of a model (vertices, normals, uv, faces) with waves of colour, and its picture."""
    atlas = laid_out(v, f, 512 * tiles, tiles)
    t = band_of_texels(atlas, 0, atlas.size)
    picture, covered = np.zeros((atlas.size, atlas.size, 3), np.uint8), np.zeros((atlas.size, atlas.size), bool)
    picture[t.row, t.column] = colors_of(t.mix(v, atlas.wedge_vertex[atlas.faces]))
    covered[t.row, t.column] = True
    fill_between(picture, covered)
    n = vertex_normals(v, f)
    wedge = atlas.wedge_vertex
    return (v[wedge], n[wedge], (atlas.uv + 0.5) / atlas.size, atlas.faces), as_jpeg(picture[..., ::-1], 95)


def test_files_with_several_pictures_show_the_same(tmp_path: Path) -> None:
    v, f = shape("ball")
    parts, image = painted(v, f, 2)
    write_glb(tmp_path / "ball.glb", *parts, image, tiles=2)
    scene = trimesh.load(tmp_path / "ball.glb")
    assert len(scene.geometry) == 4
    faces = 0
    for body in scene.geometry.values():
        faces += len(body.faces)
        picture = np.asarray(body.visual.material.baseColorTexture.convert("RGB"))
        assert picture.shape == (512, 512, 3)
        points, face = trimesh.sample.sample_surface(body, 500, seed=1)
        b = trimesh.triangles.points_to_barycentric(body.triangles[face], points)
        uv = (b[:, :, None] * body.visual.uv[body.faces[face]]).sum(1)
        assert uv.min() > 0
        assert uv.max() < 1
        at = np.clip(np.round(np.stack([uv[:, 0], 1 - uv[:, 1]], 1) * 512 - 0.5), 0, 511).astype(int)
        there = points @ np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]])  # from Y up to Z up
        off = np.abs(picture[at[:, 1], at[:, 0]].astype(int) - colors_of(there))
        assert np.quantile(off, 0.98) < 16
    assert faces == len(f)

    files = write_obj(tmp_path / "ball.obj", *parts, image, tiles=2)
    assert sorted(p.name for p in files if p.suffix == ".jpg") == [f"ball.{n}.jpg" for n in (1001, 1002, 1011, 1012)]
    coordinates, number, seen = [], 0, set()
    for line in (tmp_path / "ball.obj").read_text().splitlines():
        if line.startswith("vt "):
            coordinates.append([float(x) for x in line.split()[1:]])
        elif line.startswith("usemtl "):
            number = int(line.rsplit(".", 1)[1])
        elif line.startswith("f "):
            u, w = np.mean([coordinates[int(c.split("/")[1]) - 1] for c in line.split()[1:]], axis=0)
            assert number == FIRST + int(u) + 10 * int(w)
            seen.add(number)
    assert len(seen) == 4
    material = (tmp_path / "ball.mtl").read_text()
    assert all(f"newmtl ball.{n}\n" in material and f"map_Kd ball.{n}.jpg\n" in material for n in seen)


def test_a_picture_of_sixteen_bits_is_cut_without_loss(tmp_path: Path) -> None:
    """OBJ's own pictures are of the kind that it is given."""
    v, f = shape("ball")
    atlas = laid_out(v, f, 256, 2)
    whole = np.random.default_rng(0).integers(0, 65535, (256, 256, 3), np.uint16)
    ok, data = cv2.imencode(".png", whole)
    assert ok
    w = v[atlas.wedge_vertex]
    files = write_obj(tmp_path / "ball.obj", w, w, (atlas.uv + 0.5) / 256, atlas.faces, data.tobytes(), tiles=2)
    pictures = [p for p in files if p.suffix == ".png"]
    assert len(pictures) == 4
    assert "map_Kd ball.1001.png" in (tmp_path / "ball.mtl").read_text()
    lower_left = cv2.imread(str(tmp_path / "ball.1001.png"), cv2.IMREAD_UNCHANGED)
    np.testing.assert_array_equal(lower_left, whole[128:, :128])
