"""Models, clouds, drawings and films in open formats, read back by independent readers."""

from __future__ import annotations

import locale
import zipfile
from dataclasses import replace

import av
import cv2
import laspy
import lib3mf
import numpy as np
import pye57
import pytest
import trimesh
from PIL import Image

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.picturing import Film, Studio, View, frames
from vast_quarry.core.formats.clouds import Cloud, save_cloud
from vast_quarry.core.formats.films import write_film
from vast_quarry.core.formats.gltf import MaterialMaps
from vast_quarry.core.formats.models import Model, read_model
from vast_quarry.core.formats.saving import WRITERS, save_model
from vast_quarry.core.formats.threemf import locale_kept
from vast_quarry.core.surface.mesh import vertex_normals


@pytest.fixture(scope="module")
def model() -> Model:
    """A box 0.2 x 0.3 x 0.5 m, its picture red on the left and blue on the right."""
    mesh = trimesh.creation.box((0.2, 0.3, 0.5)).subdivide()
    v, f = np.array(mesh.vertices, float) + np.array([0, 0, 0.25]), np.array(mesh.faces, np.int64)
    picture = np.zeros((64, 64, 3), np.uint8)
    picture[:, :32, 2], picture[:, 32:, 0] = 220, 220
    uv = np.stack([v[:, 0] / 0.2 + 0.5, v[:, 2] / 0.5], 1)
    return Model(v, vertex_normals(v, f), f, uv, picture)


@pytest.mark.parametrize("kind", sorted(WRITERS))
def test_size_axis_and_unit_arrive(model, kind, tmp_path):
    path = tmp_path / f"model{kind}"
    save_model(path, model)
    if kind.startswith(".usd"):
        from pxr import Usd, UsdGeom

        stage = Usd.Stage.Open(str(path))
        assert UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.y
        assert UsdGeom.GetStageMetersPerUnit(stage) == 1
        mesh = next(UsdGeom.Mesh(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh))
        points = np.array(mesh.GetPointsAttr().Get())
        np.testing.assert_allclose(np.ptp(points, axis=0), [0.2, 0.5, 0.3], atol=1e-6)
        assert len(mesh.GetFaceVertexCountsAttr().Get()) == len(model.faces)
        return
    if kind == ".3mf":
        back = read_model(path)
        np.testing.assert_allclose(np.ptp(back.vertices, axis=0), [0.2, 0.3, 0.5], rtol=1e-5)
        assert len(back.faces) == len(model.faces)
    else:
        back = trimesh.load(path, process=False, force="mesh")
        size = {".glb": [0.2, 0.5, 0.3], ".obj": [0.2, 0.5, 0.3]}.get(kind, [0.2, 0.3, 0.5])
        np.testing.assert_allclose(np.ptp(back.vertices, axis=0), size, rtol=1e-5)
        assert len(back.faces) == len(model.faces)
        mine = read_model(path)
        np.testing.assert_allclose(mine.vertices.min(0), model.vertices.min(0), atol=1e-6)
        np.testing.assert_allclose(mine.vertices.max(0), model.vertices.max(0), atol=1e-6)


def test_the_picture_comes_back_with_its_coordinates(model, tmp_path):
    for kind in (".glb", ".obj"):
        save_model(tmp_path / f"m{kind}", model)
        back = read_model(tmp_path / f"m{kind}")
        np.testing.assert_allclose(back.uv, model.uv, atol=1e-5)
        assert back.picture.shape == (64, 64, 3)
        assert back.picture[10, 5, 2] > 190 > 60 > back.picture[10, 5, 0]
    save_model(tmp_path / "m.ply", model)
    colors = read_model(tmp_path / "m.ply").colors
    assert (colors[model.vertices[:, 0] < -0.09, 0] > 150).all()


def test_usd_s_material_finds_its_pictures_and_what_each_is(model, tmp_path):
    from pxr import Usd, UsdShade, UsdUtils

    ok, png = cv2.imencode(".png", np.full((8, 8, 3), 128, np.uint8))
    assert ok
    maps = MaterialMaps(png.tobytes(), png.tobytes())
    save_model(tmp_path / "m.usdz", model, maps)
    with zipfile.ZipFile(tmp_path / "m.usdz") as z:
        names = z.namelist()
        # the standard: the layer first, nothing compressed, data at multiples of 64 bytes
        assert names[0].endswith(".usdc")
        for info in z.infolist():
            assert info.compress_type == zipfile.ZIP_STORED
            head = (tmp_path / "m.usdz").read_bytes()[info.header_offset :]
            start = (
                info.header_offset + 30 + int.from_bytes(head[26:28], "little") + int.from_bytes(head[28:30], "little")
            )
            assert start % 64 == 0
    stage = Usd.Stage.Open(str(tmp_path / "m.usdz"))
    shader = next(UsdShade.Shader(p) for p in stage.Traverse() if p.GetName() == "surface")
    assert {i.GetBaseName() for i in shader.GetInputs()} == {
        "diffuseColor",
        "normal",
        "occlusion",
        "roughness",
        "metallic",
    }
    _, assets, missing = UsdUtils.ComputeAllDependencies(str(tmp_path / "m.usdz"))
    assert not missing
    assert len(assets) == 3
    save_model(tmp_path / "n.usda", model)
    assert (tmp_path / "n-color.jpg").exists()


def test_a_3mf_leaves_the_locale_as_it_was(model, tmp_path):
    """Its library sets the locale C, in which Python decodes what processes print as ASCII."""
    before = locale.setlocale(locale.LC_ALL)
    save_model(tmp_path / "m.3mf", model)
    assert locale.setlocale(locale.LC_ALL) == before
    read_model(tmp_path / "m.3mf")
    assert locale.setlocale(locale.LC_ALL) == before


@locale_kept()
def test_3mf_is_in_millimetres_and_coloured(model, tmp_path):
    save_model(tmp_path / "m.3mf", model)
    read = lib3mf.get_wrapper().CreateModel()
    read.QueryReader("3mf").ReadFromFile(str(tmp_path / "m.3mf"))
    assert read.GetUnit() == lib3mf.ModelUnit.MilliMeter
    meshes = read.GetMeshObjects()
    assert meshes.MoveNext()
    mesh = meshes.GetCurrentMeshObject()
    assert mesh.GetTriangleCount() == len(model.faces)
    heights = [p.Coordinates[2] for p in mesh.GetVertices()]
    assert max(heights) - min(heights) == pytest.approx(500, rel=1e-5)
    assert mesh.IsManifoldAndOriented()
    groups = read.GetColorGroups()
    assert groups.MoveNext()
    assert groups.GetCurrentColorGroup().GetCount() >= 2


@pytest.fixture(scope="module")
def cloud() -> Cloud:
    rng = np.random.default_rng(0)
    p = rng.uniform([-1, 0, 100], [1, 3, 102], (500, 3))
    return Cloud(
        p,
        rng.integers(0, 256, (500, 3)).astype(np.uint8),
        None,
        rng.integers(2, 9, 500),
        rng.random(500).astype(np.float32),
        rng.integers(0, 2, 500),
    )


@pytest.mark.parametrize("kind", [".las", ".laz"])
def test_las_has_places_colours_and_what_else_is_known(cloud, kind, tmp_path):
    save_cloud(tmp_path / f"c{kind}", cloud)
    las = laspy.read(tmp_path / f"c{kind}")
    assert str(las.header.version) == "1.4"
    np.testing.assert_allclose(np.c_[las.x, las.y, las.z], cloud.points, atol=6e-6)
    np.testing.assert_array_equal(np.c_[las.red, las.green, las.blue] // 257, cloud.colors)
    np.testing.assert_allclose(las["sigma"], cloud.sigma)
    np.testing.assert_array_equal(las["views"], cloud.views)


def test_e57_and_text(cloud, tmp_path):
    save_cloud(tmp_path / "c.e57", cloud)
    read = pye57.E57(str(tmp_path / "c.e57")).read_scan_raw(0)
    np.testing.assert_allclose(np.c_[read["cartesianX"], read["cartesianY"], read["cartesianZ"]], cloud.points)
    np.testing.assert_array_equal(read["colorGreen"], cloud.colors[:, 1])
    save_cloud(tmp_path / "c.xyz", cloud)
    rows = np.loadtxt(tmp_path / "c.xyz")
    np.testing.assert_allclose(rows[:, :3], cloud.points, atol=1e-6)
    np.testing.assert_array_equal(rows[:, 3:6], cloud.colors)
    assert not list(tmp_path.glob(".part*"))
    with pytest.raises(PlainError):
        save_cloud(tmp_path / "c.pts", cloud)
    with pytest.raises(PlainError):
        save_cloud(tmp_path / "c.las", replace(cloud, points=cloud.points[:0]))


def test_pictures_show_the_model_where_it_is(model):
    studio = Studio(model)
    image = studio.picture_of(View(30, 0), 200, 160)
    rows, columns = np.nonzero(image[..., 3])
    # upright, in the middle, with room about it
    assert 0.9 < (rows.min() + rows.max()) / 160 < 1.1
    assert 0.9 < (columns.min() + columns.max()) / 200 < 1.1
    assert np.ptp(rows) > 1.2 * np.ptp(columns)
    assert 0.5 < np.ptp(rows) / 160 < 0.95
    assert image[..., 3][0].max() == 0
    # from the front (turn 0) the left half is red and the right one blue
    front = studio.picture_of(View(0, 0), 100, 100).astype(int)
    assert front[50, 42, 2] > front[50, 42, 0] + 50
    assert front[50, 58, 0] > front[50, 58, 2] + 50
    plain = studio.picture_of(View(0, 0), 100, 100, "plain", (10, 20, 30)).astype(int)
    assert plain[0, 0].tolist() == [30, 20, 10, 255]
    # the stone's own colour on both sides: as much red as blue, but for its warm tone
    assert 0 < plain[50, 42, 2] - plain[50, 42, 0] < 40
    assert 0 < plain[50, 58, 2] - plain[50, 58, 0] < 40


@pytest.mark.parametrize("kind", [".mp4", ".webm"])
def test_a_film_has_its_length_and_turns(model, kind, tmp_path):
    film = Film(160, 90, seconds=1, rate=10, looks=("textured", "wire"), split=True)
    write_film(tmp_path / f"f{kind}", frames(Studio(model), film), film.rate)
    with av.open(str(tmp_path / f"f{kind}")) as read:
        stream = read.streams.video[0]
        assert stream.codec_context.name == "vp9"
        pictures = [f.to_ndarray(format="bgr24") for f in read.decode(stream)]
        assert stream.average_rate == 10
    assert len(pictures) == 10
    assert pictures[0].shape == (90, 160, 3)
    assert np.abs(pictures[0].astype(int) - pictures[5]).mean() > 1


def test_a_gif_and_what_is_no_film(model, tmp_path):
    write_film(tmp_path / "f.gif", frames(Studio(model), Film(64, 48, 0.5, 8)), 8)
    with Image.open(tmp_path / "f.gif") as gif:
        assert gif.n_frames == 4
    with pytest.raises(PlainError):
        write_film(tmp_path / "f.avi", [], 8)


def test_broken_and_hostile_models_are_refused_in_words(tmp_path):
    def kept(name: str, data: bytes):
        (tmp_path / name).write_bytes(data)
        return tmp_path / name

    good = trimesh.creation.box()
    ply = trimesh.exchange.ply.export_ply(good)
    for path in (
        kept("a.ply", ply[:-40]), kept("b.glb", b"glTF\x02\x00\x00\x00" + b"\xff" * 40), kept("c.obj", b"v 1 2\nf 1 2 3\n"), kept("d.obj", b"v nan nan nan\nv 0 0 1\nv 0 1 0\nf 1 2 3\n"),
        kept("e.stl", b""), kept("f.3mf", b"PK\x03\x04"), kept("g.txt", b"x"), tmp_path / "missing.ply", kept("h.ply", b"ply\nformat ascii 1.0\nelement vertex 99999999999\nproperty float x\nend_header\n"),
        kept("i.obj", b"v 0 0 0\nv 0 0 1\nv 0 1 0\nf 1 2 9\n"), tmp_path,
    ):  # fmt: skip
        with pytest.raises(PlainError):
            read_model(path)
    rng = np.random.default_rng(0)
    for n in range(60):
        raw = bytearray(ply)
        for k in rng.integers(0, len(raw), 6):
            raw[k] = rng.integers(0, 256)
        try:
            read_model(kept(f"x{n}.ply", bytes(raw)))
        except PlainError:
            continue
    with pytest.raises(PlainError):
        save_model(tmp_path / "m.abc", Model(np.zeros((3, 3)), np.zeros((3, 3)), np.array([[0, 1, 2]])))


def test_several_pictures_lie_side_by_side(tmp_path):
    """Two squares, each with a picture of its own."""
    scene = trimesh.Scene()
    for k, color in enumerate(((250, 0, 0), (0, 0, 250))):
        v = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], float) + np.array([2 * k, 0, 0])
        look = trimesh.visual.TextureVisuals(
            uv=np.array([[0, 0], [1, 0], [1, 1], [0, 1]], float),
            material=trimesh.visual.material.PBRMaterial(baseColorTexture=Image.new("RGB", (16, 16), color)),
        )
        scene.add_geometry(trimesh.Trimesh(v, [[0, 1, 2], [0, 2, 3]], visual=look, process=False))
    (tmp_path / "two.glb").write_bytes(scene.export(file_type="glb"))
    back = read_model(tmp_path / "two.glb")
    assert len(back.faces) == 4
    h, w = back.picture.shape[:2]
    for k, channel in ((0, 2), (1, 0)):
        mine = np.abs(back.vertices[:, 0] - (2 * k + 0.5)) < 0.6
        at = back.uv[mine].mean(0) * (w, h)
        assert back.picture[int(at[1]), int(at[0]), channel] > 200
