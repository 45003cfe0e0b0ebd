"""Photos, masks and formats: good files and bad ones; trimesh as an independent reader."""

from __future__ import annotations

import io
import os
import struct
from pathlib import Path

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write, write_json
from vast_quarry.core.formats.gltf import write_glb, y_up
from vast_quarry.core.formats.obj import write_obj
from vast_quarry.core.formats.ply import PlyData, read_ply, write_ply
from vast_quarry.core.mask.files import depth_inside, mask_at, mask_path, read_mask
from vast_quarry.core.photo.exif import Exif, focal_length_pixels, focus_mode, read_exif
from vast_quarry.core.photo.reading import find_photos, load_alpha, load_rgb, read_facts, resized, sharpness


def corner_photo(width: int = 120, height: int = 80) -> Image.Image:
    """Black, with a red top left corner."""
    a = np.zeros((height, width, 3), np.uint8)
    a[: height // 4, : width // 4] = (255, 0, 0)
    return Image.fromarray(a)


@pytest.mark.parametrize("orientation", range(1, 9))
def test_orientation_is_undone(tmp_path: Path, orientation: int) -> None:
    """Exif 2.32, tag 0x0112: the stored picture, turned as the tag says, shows the corner at the top left."""
    undo = {
        2: "FLIP_LEFT_RIGHT",
        3: "ROTATE_180",
        4: "FLIP_TOP_BOTTOM",
        5: "TRANSPOSE",
        6: "ROTATE_90",
        7: "TRANSVERSE",
        8: "ROTATE_270",
    }
    image = corner_photo()
    if orientation in undo:
        image = image.transpose(Image.Transpose[undo[orientation]])
    exif = Image.Exif()
    exif[0x0112] = orientation
    path = tmp_path / "a.png"
    image.save(path, exif=exif)
    facts, rgb = read_facts(path), load_rgb(path)
    assert (facts.width, facts.height) == (120, 80) == rgb.shape[1::-1]
    assert rgb[5, 5].tolist() == [255, 0, 0]
    assert rgb[-5, -5].tolist() == [0, 0, 0]


def test_focal_length_and_where_it_came_from() -> None:
    """A 36 x 24 mm sensor of 6000 x 4000 pixels: 50 mm are 50 / 36 * 6000 pixels."""
    assert focal_length_pixels(Exif(focal35_mm=50), 6000, 4000) == (pytest.approx(8333.3, abs=0.1), "35 mm equivalent")
    by_sensor = focal_length_pixels(Exif(focal_mm=50, plane_resolution=6000 / 36), 6000, 4000)
    assert by_sensor == (pytest.approx(8333.3, abs=0.1), "focal length and sensor")
    assert focal_length_pixels(Exif(), 6000, 4000)[1] == "guessed"
    assert focal_length_pixels(Exif(focal35_mm=90000), 6000, 4000)[1] == "guessed"


def makers_notes(focus: int) -> bytes:
    """Notes as one maker lays them out: its name, then an IFD with offsets from the name; tag 0x1021 is focus."""
    return (
        b"FUJIFILM" + struct.pack("<IH", 12, 1) + struct.pack("<HHIHH", 0x1021, 3, 1, focus, 0) + struct.pack("<I", 0)
    )


@pytest.mark.parametrize(("focus", "mode"), [(0, "automatic"), (1, "by hand")])
def test_focus_in_the_makers_own_notes(tmp_path: Path, focus: int, mode: str) -> None:
    exif = Image.Exif()
    exif[0x010F], exif[0x0110] = "FUJIFILM", "made up"
    exif.get_ifd(0x8769)[0x927C] = makers_notes(focus)
    file = tmp_path / "a.jpg"
    corner_photo().save(file, exif=exif)
    assert focus_mode(file) == mode


def test_notes_that_say_nothing_of_focus(tmp_path: Path) -> None:
    file = tmp_path / "a.jpg"
    corner_photo().save(file)
    assert focus_mode(file) is None
    corner_photo().save(file, exif=b"Exif\x00\x00MM\x00*\xff\xff\xff\xff" + os.urandom(64))
    assert focus_mode(file) is None


def test_hostile_exif_counts_as_none() -> None:
    buffer = io.BytesIO()
    corner_photo().save(buffer, "JPEG", exif=b"Exif\x00\x00MM\x00*\xff\xff\xff\xff" + os.urandom(64))
    assert read_exif(Image.open(buffer)).focal_mm is None


@pytest.mark.parametrize("mode", ["L", "I;16", "RGBA", "P", "CMYK", "1"])
def test_other_kinds_of_pictures(tmp_path: Path, mode: str) -> None:
    path = tmp_path / ("a.tif" if mode == "CMYK" else "a.png")
    if mode == "I;16":
        Image.fromarray(np.full((70, 90), 40_000, np.uint16)).save(path)
    else:
        Image.new("RGB", (90, 70), (200, 200, 200)).convert(mode).save(path)
    rgb = load_rgb(path)
    assert rgb.shape == (70, 90, 3)
    assert rgb.dtype == np.uint8
    assert rgb.mean() > 100


def test_alpha_is_a_mask(tmp_path: Path) -> None:
    a = np.full((80, 80, 4), 255, np.uint8)
    a[:40, :, 3] = 0
    Image.fromarray(a).save(tmp_path / "a.png")
    mask = load_alpha(tmp_path / "a.png")
    assert mask is not None
    assert not mask[:40].any()
    assert mask[40:].all()
    corner_photo().save(tmp_path / "b.png")
    assert load_alpha(tmp_path / "b.png") is None


def test_bad_pictures_are_told_apart(tmp_path: Path) -> None:
    (tmp_path / "text.jpg").write_text("not a picture")
    Image.new("RGB", (1, 1)).save(tmp_path / "dot.png")
    buffer = io.BytesIO()
    Image.fromarray(np.random.default_rng(0).integers(0, 255, (300, 300, 3), np.uint8)).save(buffer, "JPEG")
    (tmp_path / "cut.jpg").write_bytes(buffer.getvalue()[: len(buffer.getvalue()) // 2])
    Image.new("1", (20_000, 15_000)).save(tmp_path / "huge.png")
    with pytest.raises(PlainError, match="not a picture"):
        read_facts(tmp_path / "text.jpg")
    with pytest.raises(PlainError, match="1 x 1"):
        read_facts(tmp_path / "dot.png")
    with pytest.raises(PlainError, match="300 megapixels"):
        read_facts(tmp_path / "huge.png")
    with pytest.raises(PlainError, match="cut short"):
        load_rgb(tmp_path / "cut.jpg")
    with pytest.raises(PlainError, match="no longer"):
        read_facts(tmp_path / "gone.jpg")


def test_photos_are_found_in_natural_order(tmp_path: Path) -> None:
    for name in ("b/p10.jpg", "b/p9.JPG", "a 1.png", ".hidden/x.jpg", "notes.txt", "né.jpg"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(b"")
    found = [str(p.relative_to(tmp_path)) for p in find_photos(tmp_path)]
    assert found == ["a 1.png", "b/p9.JPG", "b/p10.jpg", "né.jpg"]
    with pytest.raises(PlainError, match="no folder"):
        find_photos(tmp_path / "none")


def test_sharpness_ranks_blur(rng: np.random.Generator) -> None:
    import cv2

    sharp = cv2.resize(rng.integers(0, 255, (100, 100), np.uint8), (400, 400), interpolation=cv2.INTER_NEAREST)
    assert sharpness(sharp) > 1.5 * sharpness(cv2.GaussianBlur(sharp, (0, 0), 3))
    assert resized(sharp, 0.5).shape == (200, 200)


def test_masks_from_files(tmp_path: Path) -> None:
    (tmp_path / "sub").mkdir()
    a = np.zeros((40, 60), np.uint8)
    a[10:30, 20:50] = 255
    Image.fromarray(a).save(tmp_path / "sub" / "p1.png")
    found = mask_path(tmp_path, "sub/p1.jpg")
    assert found is not None
    assert mask_path(tmp_path, "p2.jpg") is None
    mask = read_mask(found, 60, 40)
    assert mask.sum() == 600
    assert (depth_inside(mask) > 3).sum() < mask.sum()
    assert mask_at(mask, 30, 20).sum() == 150
    with pytest.raises(PlainError, match="60 x 40"):
        read_mask(found, 66, 40)
    # of another size, but of the photo's shape: as it may be a half or a pixel off by rounding
    assert read_mask(found, 120, 80).sum() == pytest.approx(2400, rel=0.05)
    assert read_mask(found, 31, 20).sum() == pytest.approx(150, rel=0.12)
    (tmp_path / "p3.png").write_text("no")
    with pytest.raises(PlainError, match="cannot be read"):
        read_mask(tmp_path / "p3.png", 60, 40)


def test_masks_of_every_kind_of_pixel(tmp_path: Path) -> None:
    """Grey of 16 bits, palettes, colours, transparency: white and opaque is kept."""
    grey = np.zeros((40, 60), np.uint16)
    grey[:, :20], grey[:, 20:40], grey[:, 40:] = 3000, 32000, 60000  # the first two are dark, though above 255
    Image.fromarray(grey).save(tmp_path / "deep.png")
    assert read_mask(tmp_path / "deep.png", 60, 40).sum() == 40 * 20
    plain = Image.fromarray(np.where(np.arange(60) < 30, 255, 0).astype(np.uint8)[None].repeat(40, 0))
    plain.convert("P").save(tmp_path / "palette.png")
    plain.convert("1").save(tmp_path / "bits.png")
    plain.convert("RGB").save(tmp_path / "colour.png")
    white = Image.new("RGBA", (60, 40), (255, 255, 255, 255))
    white.putalpha(plain)
    white.save(tmp_path / "clear.png")
    for name in ("palette", "bits", "colour", "clear"):
        mask = read_mask(tmp_path / f"{name}.png", 60, 40)
        assert mask[:, :30].all(), name
        assert not mask[:, 30:].any(), name


def mesh_parts() -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, bytes]:
    m = trimesh.creation.icosphere(2)
    v, f = np.asarray(m.vertices, float) + np.array([0, 0, 3]), np.asarray(m.faces)
    buffer = io.BytesIO()
    Image.new("RGB", (8, 8), (10, 200, 30)).save(buffer, "JPEG")
    return v, np.asarray(m.vertices), v[:, :2] * 0.5 + 0.5, f, buffer.getvalue()


def test_glb_is_y_up_matt_and_readable_by_others(tmp_path: Path) -> None:
    parts = mesh_parts()
    write_glb(tmp_path / "m.glb", *parts)
    scene = trimesh.load(tmp_path / "m.glb", process=False)
    mesh = next(iter(scene.geometry.values()))
    np.testing.assert_allclose(mesh.vertices, y_up(parts[0]), atol=1e-6)
    assert mesh.vertices[:, 1].mean() == pytest.approx(3, abs=0.01)
    material = mesh.visual.material
    assert material.metallicFactor == 0
    assert material.roughnessFactor == 1
    assert material.baseColorTexture.size == (8, 8)


def test_obj_refers_to_its_texture_by_relative_path(tmp_path: Path) -> None:
    parts = mesh_parts()
    write_obj(tmp_path / "model.obj", *parts)
    assert "map_Kd model.jpg" in (tmp_path / "model.mtl").read_text()
    mesh = trimesh.load(tmp_path / "model.obj", process=False)
    assert len(mesh.faces) == len(parts[3])
    assert mesh.visual.uv is not None
    assert mesh.bounds[0][1] > 1.9


@given(st.integers(0, 40), st.booleans(), st.booleans())
@settings(max_examples=25)
def test_ply_round_trip(tmp_path_factory: pytest.TempPathFactory, n: int, normals: bool, faces: bool) -> None:
    rng = np.random.default_rng(n)
    path = tmp_path_factory.mktemp("ply") / "a.ply"
    data = PlyData(
        rng.normal(0, 1, (n, 3)).astype(np.float32).astype(float),
        rng.normal(0, 1, (n, 3)).astype(np.float32) if normals else None,
        rng.integers(0, 255, (n, 3), np.uint8),
        rng.integers(0, n, (n, 3)) if faces and n else None,
        {"views": np.arange(n, dtype=np.float32)},
    )
    write_ply(path, data)
    back = read_ply(path)
    np.testing.assert_array_equal(back.points, data.points)
    np.testing.assert_array_equal(back.colors, data.colors)
    if normals:
        np.testing.assert_array_equal(back.normals, data.normals)
    if data.faces is not None:
        np.testing.assert_array_equal(back.faces, data.faces)


@pytest.mark.parametrize("encoding", ["ascii", "binary"])
def test_ply_of_another_writer(tmp_path: Path, encoding: str) -> None:
    m = trimesh.creation.box()
    (tmp_path / "b.ply").write_bytes(trimesh.exchange.ply.export_ply(m, encoding=encoding))
    back = read_ply(tmp_path / "b.ply")
    np.testing.assert_allclose(back.points, m.vertices, atol=1e-6)
    np.testing.assert_array_equal(back.faces, m.faces)


def test_damaged_ply(tmp_path: Path) -> None:
    (tmp_path / "a.ply").write_bytes(b"solid")
    with pytest.raises(PlainError, match="not a PLY"):
        read_ply(tmp_path / "a.ply")
    write_ply(tmp_path / "b.ply", PlyData(np.zeros((50, 3))))
    (tmp_path / "b.ply").write_bytes((tmp_path / "b.ply").read_bytes()[:-100])
    with pytest.raises(PlainError, match="cut short"):
        read_ply(tmp_path / "b.ply")


def test_a_failed_write_leaves_the_old_file(tmp_path: Path) -> None:
    path = tmp_path / "a.json"
    write_json(path, {"a": np.float32(1.5), "b": np.arange(3)})
    before = path.read_bytes()
    with pytest.raises(ZeroDivisionError), atomic_write(path) as out:
        out.write(b"%d" % (1 // 0))
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["a.json"]
    with pytest.raises(TypeError):
        write_json(path, {"a": object()})
    assert path.read_bytes() == before
