"""Photos laid onto the surface by what the others show there."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from PIL import Image
from scipy import ndimage

from vast_quarry.core.camera import Camera, undistort
from vast_quarry.core.formats.atomic import write_arrays
from vast_quarry.core.pose import look_at
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.texture import laying
from vast_quarry.core.texture.coloring import PhotoView, prepare_photo
from vast_quarry.pipeline.orders import PhotoOrder
from vast_quarry.pipeline.units import color as units

SIDE = 1.2
CORNERS = SIDE * np.array([[-1.0, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]])
CAMERA = Camera.simple(360, 270, 380.0)
UNIT = 380.0 / 3


@pytest.fixture(scope="module")
def paint() -> np.ndarray:
    """What is painted on a board: detail of several sizes."""
    rng = np.random.default_rng(5)
    parts = [ndimage.gaussian_filter(rng.normal(0, 1, (900, 900)), s) * s for s in (2, 5, 12)]
    return np.clip(128 + 55 * sum(p / p.std() for p in parts) / 2, 5, 250).astype(np.float32)  # type: ignore[arg-type]


def pushed(width: int, height: int, far: float) -> np.ndarray:
    """A smooth field of shifts (H, W, 2), ``far`` pixels in the middle and less towards the rim."""
    u, v = np.meshgrid(np.arange(width), np.arange(height))
    bump = np.exp(-((u - width / 2) ** 2 + (v - height / 2) ** 2) / (2 * (width / 6) ** 2))
    return far * np.stack([0.8 * bump, -0.6 * bump], -1)


def photo_of(paint: np.ndarray, angle: float, far: float, noise: float, seed: int) -> PhotoView:
    """The board photographed from an angle, in degrees; what the photo shows is pushed aside by up to ``far`` pixels."""
    a = np.radians(angle)
    center = 3 * np.array([np.sin(a), 0.1, np.cos(a)])
    rotation = look_at(center, [0, 0, 0], up=(0, 1, 0))
    w, h = CAMERA.width, CAMERA.height
    u, v = np.meshgrid(np.arange(w, dtype=float), np.arange(h, dtype=float))
    # what lies at a pixel of the right photo is found at the pixel plus the field: the picture is drawn the other way about
    at = np.stack([u, v], -1) - pushed(w, h, far)
    rays = np.concatenate([undistort(at, CAMERA), np.ones((h, w, 1))], -1) @ rotation
    hit = center + rays * (-center[2] / rays[..., 2])[..., None]
    place = (hit[..., :2] / (2 * SIDE) + 0.5) * 899
    gray = cv2.remap(paint, place[..., 0].astype(np.float32), place[..., 1].astype(np.float32), cv2.INTER_CUBIC)
    gray += np.random.default_rng(seed).normal(0, noise, gray.shape)
    rgb = np.repeat(np.clip(gray, 0, 255).astype(np.uint8)[..., None], 3, 2)
    scene = RayScene()
    scene.add(CORNERS, np.array([[0, 1, 2], [0, 2, 3]]))
    return prepare_photo(rgb, CAMERA, rotation, center, scene, None, blur=4.0)


def found(views: list[PhotoView]) -> list[tuple[np.ndarray, np.ndarray]]:
    """Fields and where they are sure, of all photos, by 14,000 places of the board."""
    rng = np.random.default_rng(0)
    points = np.concatenate([rng.uniform(-1.1, 1.1, (14_000, 2)), np.zeros((14_000, 1))], 1)
    normals = np.tile([0.0, 0, 1], (len(points), 1))
    each = [laying.samples(v, points, normals, UNIT) for v in views]
    told = laying.Told.of(len(points))
    for s in each:
        told.add(s, 1.0)
    return [laying.shifts(v, s, told.others(s, 1.0)) for v, s in zip(views, each)]


def test_what_a_photo_shows_two_pixels_off_is_found_and_taken_up(paint: np.ndarray) -> None:
    views = [photo_of(paint, angle, 2.0 if k == 2 else 0.0, 2.0, k) for k, angle in enumerate((-30, -15, 0, 15, 30))]
    fields = found(views)
    field, sure = fields[2]
    cells = cv2.resize(
        pushed(CAMERA.width, CAMERA.height, 2.0).astype(np.float32), field.shape[1::-1], interpolation=cv2.INTER_AREA
    )
    assert sure.mean() > 0.5
    off = np.linalg.norm(field - cells, axis=-1)[sure]
    assert np.median(off) < 0.1
    assert np.quantile(off, 0.95) < 0.4
    # the others, whose neighbour is off, are told to stay where they are
    for k in (0, 1, 3, 4):
        assert np.median(np.linalg.norm(fields[k][0], axis=-1)[fields[k][1]]) < 0.3
    right = photo_of(paint, 0, 0.0, 0.0, 9).photo[..., 0].astype(float)
    middle = np.s_[95:175, 120:240]
    before, after = (
        np.abs(p[..., 0].astype(float) - right)[middle].mean()
        for p in (views[2].photo, laying.laid(views[2].photo, laying.taken_up(field, sure)))
    )
    assert after < 0.45 * before


def test_photos_that_lie_right_stay_as_they_are(paint: np.ndarray) -> None:
    for field, sure in found([photo_of(paint, a, 0.0, 3.0, k) for k, a in enumerate((-30, -10, 10, 30))]):
        assert sure.mean() > 0.5
        assert np.quantile(np.linalg.norm(field, axis=-1)[sure], 0.95) < 0.25
        assert not laying.taken_up(field, sure).any()


@pytest.mark.parametrize("painted", [128.0, "stripes"])
def test_what_tells_nothing_or_only_across_moves_nothing(painted: Any) -> None:
    """An even board, and one with stripes along which any shift would do."""
    board = np.full((900, 900), 128.0, np.float32)
    if painted == "stripes":
        board += 60 * np.sin(np.arange(900) / 4)[:, None].astype(np.float32)
    for field, sure in found([photo_of(board, a, 0.0, 2.0, k) for k, a in enumerate((-20, 0, 20))]):
        assert not laying.taken_up(field, sure).any()


def test_two_photos_contradict_each_other_and_none_is_moved(paint: np.ndarray) -> None:
    views = [photo_of(paint, -10, 2.0, 0.0, 1), photo_of(paint, 10, 0.0, 0.0, 2)]
    for _, sure in found(views):
        assert not sure.any()


def test_a_photo_that_shows_none_of_the_vertices_says_nothing(paint: np.ndarray) -> None:
    """After a cut, or of a mesh of few triangles."""
    view = photo_of(paint, 0, 0.0, 0.0, 1)
    points = np.array([[0.0, 0, -1], [9, 9, 9]])
    none = laying.samples(view, points, np.tile([0.0, 0, 1], (2, 1)), UNIT)
    assert none.value.shape == (0, 2)
    told = laying.Told.of(2)
    told.add(none, 1.0)
    field, sure = laying.shifts(view, none, told.others(none, 1.0))
    assert not sure.any()
    assert not laying.taken_up(field, sure).any()
    assert not laying.moved(view, none, field).value.size


def test_a_photo_that_lies_off_is_moved_before_it_gives_colour(paint: np.ndarray, tmp_path: Path) -> None:
    """Through the units, from photos as files; a run that was killed finds what was finished."""
    side = 121
    x, y = np.meshgrid(np.linspace(-SIDE, SIDE, side), np.linspace(-SIDE, SIDE, side))
    vertices = np.stack([x.ravel(), y.ravel(), np.zeros(x.size)], 1)
    corner = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).ravel()
    quads = np.stack([corner, corner + 1, corner + side + 1, corner + side], 1)
    faces = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    here = str(tmp_path)
    write_arrays(tmp_path / "mesh.npz", vertices=vertices, faces=faces, foot=-np.inf)
    voices = []
    # the one in the middle sees the board best, and gives most of its fine part
    for k, angle in enumerate((-30, -15, 0, 15, 30)):
        view = photo_of(paint, angle, 2.0 if k == 2 else 0.0, 1.0, k)
        Image.fromarray(view.photo).save(tmp_path / f"{k}.png")
        order = PhotoOrder(k, str(tmp_path / f"{k}.png"), None, None, 1.0, 1.0, CAMERA, view.rotation, view.center)
        units.prepare(here, order, UNIT, 100, units.Reading(lay=True))
        voices.append(units.Voice(order, np.ones(3), 1.0))
    place = (vertices[:, :2] / (2 * SIDE) + 0.5) * 899
    truth = ndimage.map_coordinates(paint, place[:, ::-1].T, order=1)
    middle = np.linalg.norm(vertices[:, :2], axis=1) < 0.3

    def off(name: str) -> float:
        units.color_vertices(here, 0, len(vertices), voices, UNIT, False)
        with np.load(tmp_path / "vertices-000000000.npz") as f:
            colors = f["colors"][:, 0]
        (tmp_path / "vertices-000000000.npz").rename(tmp_path / name)
        return float(np.abs(colors - truth)[middle].mean())

    before = off("before.npz")
    for turn in range(units.TURNS):
        units.sum_shown(here, voices, len(vertices), turn)
        found = [units.lay(here, v, turn) for v in voices]
    assert 1.5 < found[2].moved < 2.4
    # those beside it, a quarter of whose others is off, hardly are
    assert max(f.moved for k, f in enumerate(found) if k != 2) < 0.6
    assert max(f.off for k, f in enumerate(found) if k != 2) < 0.2
    after = off("after.npz")
    assert after < 0.5 * before
    stamp = (tmp_path / "laid-00002.npy").stat().st_mtime_ns
    assert units.lay(here, voices[2], units.TURNS - 1) == found[2]
    assert (tmp_path / "laid-00002.npy").stat().st_mtime_ns == stamp
    units._mesh.cache_clear()
    units._scene.cache_clear()
