"""What only one photo shows gives no colour; a photo that was kept back is held against the model; how visible seams are."""

from __future__ import annotations

import numpy as np
import pytest
from tests.core.test_texels import CENTER, LOOKING, PLATE

from vast_quarry.core.camera import Camera
from vast_quarry.core.pose import look_at
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.texture.agreement import agreed, contradicted, weighted_median
from vast_quarry.core.texture.coloring import ColorSum, Said, prepare_photo
from vast_quarry.core.texture.held_out import Model, difference, drawn, likeness
from vast_quarry.core.texture.seams import seam_visibility

CAMERA = Camera.simple(200, 200, 250.0)


def views(pictures: list[np.ndarray]) -> list:
    scene = RayScene()
    scene.add(*PLATE)
    return [prepare_photo(p, CAMERA, LOOKING, CENTER, scene, None, blur=2.0) for p in pictures]


def plate_points(rng: np.random.Generator, count: int = 300) -> tuple[np.ndarray, np.ndarray]:
    low, high = PLATE[0].min(0), PLATE[0].max(0)
    points = rng.uniform(low + 0.2 * (high - low), high - 0.2 * (high - low), (count, 3))
    return points, np.tile([0.0, 0, 1], (count, 1))


def test_median_of_weighted_values_is_that_of_values_written_so_often(rng: np.random.Generator) -> None:
    values, weights = rng.normal(size=(50, 7)), rng.integers(0, 5, (50, 7))
    weights[:, 0] += 1
    often = [np.sort(np.repeat(v, w)) for v, w in zip(values, weights)]
    wanted = [o[(len(o) - 1) // 2] for o in often]
    np.testing.assert_array_equal(weighted_median(values, weights.astype(float)), wanted)


def test_what_one_photo_of_five_shows_leaves_no_ghost(rng: np.random.Generator) -> None:
    """Somebody dark stands before the left half of one photo."""
    points, normals = plate_points(rng)
    right = [np.full((200, 200, 3), (150, 120, 90), np.uint8) for _ in range(5)]
    right[2][:, :100] = 20
    said, mean, robust = Said(points, normals, 80.0), ColorSum(points, normals, 80.0), None
    for view in views(right):
        said.add(view)
        mean.add(view)
    expected = agreed(said)
    robust = ColorSum(points, normals, 80.0, expected)
    for view in views(right):
        robust.add(view)
    colors, seen = robust.colors()
    assert seen.all()
    assert np.abs(colors - [150, 120, 90]).max() < 2
    assert np.abs(mean.colors()[0] - [150, 120, 90]).max() > 15  # so it would be
    asked, against = said.counts(contradicted(said, expected), 5)
    assert (asked == len(points)).all()
    assert (against[[0, 1, 3, 4]] == 0).all()
    assert 0.3 < against[2] / asked[2] < 0.7
    # nor is it said to be the source of anything there
    left = np.abs(colors - [150, 120, 90]).max(1) < 2
    assert not (robust.who[left & (said.colors.min((1, 2)) < 60)] == 2).any()


def test_two_photos_contradict_nobody(rng: np.random.Generator) -> None:
    points, normals = plate_points(rng)
    pair = [np.full((200, 200, 3), c, np.uint8) for c in (60, 160)]
    said = Said(points, normals, 80.0)
    for view in views(pair):
        said.add(view)
    expected = agreed(said)
    assert not contradicted(said, expected).any()
    both = ColorSum(points, normals, 80.0, expected)
    for view in views(pair):
        both.add(view)
    np.testing.assert_allclose(both.colors()[0], 110, atol=0.6)


def test_colours_that_drift_with_the_view_are_kept_where_all_do(rng: np.random.Generator) -> None:
    """A sheen that changes from photo to photo is what all photos show: none of them is thrown out."""
    points, normals = plate_points(rng)
    said = Said(points, normals, 80.0)
    for view in views([np.full((200, 200, 3), 100 + 6 * k, np.uint8) for k in range(8)]):
        said.add(view)
    assert not contradicted(said, agreed(said)).any()


def checkered(side: int) -> np.ndarray:
    y, x = np.mgrid[:side, :side] // (side // 8)
    return np.where(((x + y) % 2)[..., None], (200, 180, 150), (90, 70, 60)).astype(np.uint8)


def test_a_model_drawn_from_where_it_was_taken_is_like_its_photo() -> None:
    """The plate's own picture is its atlas: drawn straight on it is that picture, turned and shifted not."""
    vertices = np.array([[-1.0, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]])
    faces = np.array([[0, 1, 2], [0, 2, 3]])
    scene = RayScene()
    scene.add(vertices, faces)
    uv = np.array([[-0.5, 255.5], [255.5, 255.5], [255.5, -0.5], [-0.5, -0.5]])
    model = Model(scene, uv, faces, checkered(256))
    center = np.array([0.0, 0, 2])
    camera = Camera.simple(256, 256, 256.0)
    made, share = drawn(model, camera, look_at(center, np.zeros(3), up=(0.0, 1, 0)), center)
    assert share.mean() > 0.99
    assert np.abs(made.astype(int) - checkered(256)).mean() < 1.5
    darker = (checkered(256) * np.array([0.8, 0.7, 0.9])).astype(np.uint8)
    alike = likeness(darker, made, share, None)
    assert alike is not None
    assert alike.psnr > 35  # exposure and white balance are no fault of the model
    assert alike.ssim > 0.97
    assert np.abs(difference(darker, alike).astype(int) - 128).mean() < 6
    moved = np.roll(darker, 5, axis=1)
    worse = likeness(moved, made, share, None)
    assert worse is not None
    assert worse.psnr < alike.psnr - 12
    mask = np.zeros((256, 256), bool)
    assert likeness(darker, made, share, mask) is None


def test_psnr_is_that_of_noise_of_known_strength(rng: np.random.Generator) -> None:
    """Noise of 5 levels: 20 log10(255 / 5) = 34.15 dB."""
    photo = np.full((300, 300, 3), 128, np.uint8)
    noisy = (photo + rng.normal(0, 5, photo.shape)).round().clip(0, 255).astype(np.uint8)
    alike = likeness(noisy, photo, np.ones((300, 300), np.float32), None)
    assert alike is not None
    assert alike.psnr == pytest.approx(34.15, abs=0.1)


def test_seams_that_show_are_told_from_those_that_do_not(rng: np.random.Generator) -> None:
    image = rng.normal(128, 6, (400, 400, 3))
    source = np.ones((400, 400), np.uint16)
    source[:, 200:] = 2
    source[:20] = 0
    hidden = seam_visibility(image.clip(0, 255).astype(np.uint8), source)
    assert hidden == pytest.approx(1.0, abs=0.1)
    image[:, 200:] += 15
    shown = seam_visibility(image.clip(0, 255).astype(np.uint8), source)
    assert shown is not None
    assert shown > 2.0
    assert seam_visibility(image.astype(np.uint8), np.ones((400, 400), np.uint16)) is None
    # bands change nothing
    assert seam_visibility(image.clip(0, 255).astype(np.uint8), source, rows=37) == pytest.approx(shown, rel=1e-3)
