"""Texels in bands, what lies between charts, and colours taken between the pixels of a photo."""

from __future__ import annotations

import numpy as np
import pytest
from PIL import Image
from scipy import ndimage

from vast_quarry.core.camera import Camera, project, undistort, view_limit
from vast_quarry.core.formats.atomic import write_arrays
from vast_quarry.core.pose import look_at
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.texture.coloring import ColorSum, crisper, prepare_photo
from vast_quarry.core.texture.packing import raster_faces
from vast_quarry.core.texture.texels import REACH, band_of_texels, fill_between
from vast_quarry.pipeline.orders import PhotoOrder
from vast_quarry.pipeline.units import color as units

PLATE = np.array([[-1.0, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]]), np.array([[0, 1, 2], [0, 2, 3]])
CENTER = np.array([0.0, 0, 3.0])
LOOKING = look_at(CENTER, [0, 0, 0], up=(0, 1, 0))


def plate() -> RayScene:
    scene = RayScene()
    scene.add(*PLATE)
    return scene


def test_bands_are_rows_of_the_whole() -> None:
    rng = np.random.default_rng(3)
    uv = rng.uniform(0, 60, (90, 2))
    faces = np.arange(90).reshape(30, 3)
    whole = raster_faces(uv, faces, 64)
    parts = [raster_faces(uv, faces, 64, a, min(a + 9, 64)) for a in range(0, 64, 9)]
    np.testing.assert_array_equal(np.concatenate(parts), whole)
    assert 0.2 < (whole >= 0).mean() < 1


def test_between_charts_lies_the_colour_of_the_nearest_texel() -> None:
    rng = np.random.default_rng(0)
    image = rng.integers(0, 255, (150, 90, 3), np.uint8)
    covered = np.zeros((150, 90), bool)
    covered[4:12, 30:60] = covered[100:120, 5:20] = True
    before, filled = image.copy(), image.copy()
    fill_between(filled, covered, rows=40)
    np.testing.assert_array_equal(filled[covered], before[covered])
    far = ndimage.distance_transform_edt(~covered)
    # equally near ones may differ, and the chamfer of 5 x 5 is two hundredths off: the colour is that of one hardly farther
    near = (far < REACH / 2) & ~covered
    places = np.argwhere(covered)
    colors = before[covered].astype(int)
    for y, x in np.argwhere(near)[::17]:
        d = np.linalg.norm(places - [y, x], axis=1)
        allowed = colors[d <= d.min() * 1.05 + 0.01]
        assert (np.abs(allowed - filled[y, x].astype(int)).sum(1) == 0).any()


def test_fine_detail_keeps_its_strength_between_pixels() -> None:
    """Waves of five pixels, taken at any place between pixels: by lines between pixels an eighth of their strength was lost."""
    cam = Camera.simple(240, 240, 300.0)
    u = np.arange(240)
    wave = 128 + 80 * np.sin(2 * np.pi * u / 5.0)
    rgb = np.repeat(np.repeat(wave[None, :, None], 240, 0), 3, 2).astype(np.uint8)
    view = prepare_photo(rgb, cam, LOOKING, CENTER, plate(), None, 4.0)
    x = np.linspace(-0.5, 0.5, 4000)
    points = np.stack([x, np.full_like(x, 0.013), np.zeros_like(x)], 1)
    total = ColorSum(points, np.tile([0.0, 0, 1], (len(x), 1)), 100.0)
    total.add(view)
    colors, seen = total.colors()
    assert seen.all()
    px, _ = project(cam, LOOKING, CENTER, points)
    true = 128 + 80 * np.sin(2 * np.pi * px[:, 0] / 5.0)
    strength = ((colors[:, 0] - 128) @ (true - 128)) / ((true - 128) @ (true - 128))
    assert strength > 0.93
    f = px[:, 0] - np.floor(px[:, 0])
    i = np.floor(px[:, 0]).astype(int)
    lines = (1 - f) * wave[i] + f * wave[i + 1]
    assert ((lines - 128) @ (true - 128)) / ((true - 128) @ (true - 128)) < 0.9


def test_what_a_lens_would_fold_back_takes_no_colour() -> None:
    """Strong barrel distortion: its polynomial turns back outside the picture, and draws what lies far aside within it."""
    cam = Camera(200, 200, 150.0, 150.0, 99.5, 99.5, k1=-0.12)
    limit = view_limit(cam)
    corner = float((undistort([[0.0, 0.0]], cam)[0] ** 2).sum())
    assert corner < limit < 1.3 * corner
    wide = np.array([[-9.0, -9, 0], [9, -9, 0], [9, 9, 0], [-9, 9, 0]])
    scene = RayScene()
    scene.add(wide, PLATE[1])
    view = prepare_photo(np.full((200, 200, 3), 200, np.uint8), cam, LOOKING, CENTER, scene, None, 2.0)
    points = np.stack([np.linspace(0, 8.5, 200), np.zeros(200), np.zeros(200)], 1)
    px, _ = project(cam, LOOKING, CENTER, points)
    r2 = (points[:, 0] / 3) ** 2
    inside = (px > 1).all(1) & (px < 197).all(1)
    folded = inside & (r2 > limit)
    assert folded.any()
    total = ColorSum(points, np.tile([0.0, 0, 1], (200, 1)), 40.0)
    total.add(view)
    seen = total.colors()[1]
    assert not seen[folded].any()
    assert seen[inside & (r2 < 0.5 * corner)].all()
    assert view_limit(Camera.simple(200, 200, 120.0)) == pytest.approx(2 * (99.5 / 120) ** 2, rel=0.15)


def test_a_photo_of_sixteen_bits_gives_colours_finer_than_eight() -> None:
    """A slope of three levels of 8 bits over the whole photo: straight in 16 bits, three steps in 8."""
    cam = Camera.simple(200, 200, 250.0)
    slope = np.repeat(np.linspace(100.0, 103.0, 200)[None, :, None], 200, axis=0).repeat(3, axis=2)
    points = np.stack([np.linspace(-0.5, 0.5, 400), np.zeros(400), np.zeros(400)], 1)

    def off_a_line(photo: np.ndarray) -> float:
        total = ColorSum(points, np.tile([0.0, 0, 1], (400, 1)), 80.0)
        total.add(prepare_photo(crisper(photo, 0.5), cam, LOOKING, CENTER, plate(), None, 2.0))
        colors, seen = total.colors()
        assert seen.all()
        assert colors.mean() == pytest.approx(101.5, abs=0.6)
        line = np.polynomial.Polynomial.fit(points[:, 0], colors[:, 1], 1)
        return float(np.abs(colors[:, 1] - line(points[:, 0])).max())

    assert off_a_line((slope * 257 + 0.5).astype(np.uint16)) < 0.02
    assert off_a_line((slope + 0.5).astype(np.uint8)) > 0.2


def test_what_lies_before_what_the_photo_sees_takes_no_colour() -> None:
    """A point that is not on the surface that was seen there, whichever side of it: the test was for those behind only."""
    cam = Camera.simple(200, 200, 250.0)
    view = prepare_photo(np.full((200, 200, 3), 90, np.uint8), cam, LOOKING, CENTER, plate(), None, 2.0)
    points = np.array([[0.1, 0.1, 0.0], [0.1, 0.1, 0.3], [0.1, 0.1, -0.3]])
    total = ColorSum(points, np.tile([0.0, 0, 1], (3, 1)), 80.0)
    total.add(view)
    assert total.colors()[1].tolist() == [True, False, False]


def test_the_picture_is_the_same_however_it_is_cut_into_bands(tmp_path) -> None:  # type: ignore[no-untyped-def]
    rng = np.random.default_rng(1)
    Image.fromarray(rng.integers(0, 255, (200, 200, 3), np.uint8)).save(tmp_path / "photo.png")
    made = []
    for name, height in (("a", 128), ("b", 37)):
        folder = tmp_path / name
        folder.mkdir()
        write_arrays(folder / "mesh.npz", vertices=PLATE[0], faces=PLATE[1], foot=-0.0)
        cam = Camera.simple(200, 200, 250.0)
        order = PhotoOrder(0, str(tmp_path / "photo.png"), None, None, 1.0, 1.0, cam, LOOKING, CENTER)
        here = str(folder)
        for o in (units.AtlasOrder(128, 50.0, 128), order):
            units.prepare(here, o, 80.0, 4)
        voices = [units.Voice(order, np.array([1.1, 1.0, 0.9]), 1.0)]
        units.color_vertices(here, 0, 4, voices, 80.0, True)
        np.save(folder / "vertex-colors.npy", np.full((4, 3), 7.0, np.float32))
        parts = []
        for first in range(0, 128, height):
            units.color_band(here, first, min(first + height, 128), voices, 80.0)
            with np.load(folder / f"band-{first:06d}.npz") as f:
                parts.append((f["picture"], f["kind"]))
        made.append([np.concatenate(x) for x in zip(*parts)])
        units.load_atlas.cache_clear()
        units._mesh.cache_clear()
        units._scene.cache_clear()
    for one, other in zip(*made):
        np.testing.assert_array_equal(one, other)
    picture, kind = made[0]
    assert (kind == units.SEEN).mean() > 0.5
    assert picture[kind == units.SEEN].std() > 30


def test_weights_of_texels_are_those_of_their_place() -> None:
    units_atlas = type("A", (), {})()
    units_atlas.uv = np.array([[2.0, 2.0], [30.0, 2.0], [2.0, 30.0]])
    units_atlas.faces = np.array([[0, 1, 2]])
    units_atlas.size = 40
    texels = band_of_texels(units_atlas, 5, 20)
    places = texels.mix(np.concatenate([units_atlas.uv, np.zeros((3, 1))], 1), units_atlas.faces)
    np.testing.assert_allclose(places[:, 0], texels.column, atol=1e-4)
    np.testing.assert_allclose(places[:, 1], texels.row + 5, atol=1e-4)
