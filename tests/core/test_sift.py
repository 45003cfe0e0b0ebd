"""Features: against OpenCV's, and kernels against plain numpy."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from scipy.ndimage import maximum_filter, minimum_filter
from scipy.spatial import cKDTree
from tests.conftest import RigSet

from vast_quarry.core.match import sift, sift_gradients, sift_kernels
from vast_quarry.core.photo.reading import load_rgb


@pytest.fixture(scope="module")
def gray(milestone_set: RigSet) -> np.ndarray:
    return np.asarray(cv2.cvtColor(load_rgb(milestone_set.photos / "milestone_001.jpg"), cv2.COLOR_RGB2GRAY), np.uint8)


def test_they_are_those_of_opencv(gray: np.ndarray) -> None:
    """Places, scales and directions as of OpenCV's SIFT (4.x, precise upscaling); descriptors alike but for the part of a pixel."""
    reference = cv2.SIFT_create(0, 3, 0.02, 12.0, 1.6, True)  # type: ignore[attr-defined]
    points, theirs = reference.detectAndCompute(gray, None)
    found, layers = sift.blobs(gray)
    ours = sift.described(layers, found, np.arange(len(found)), 10**6)

    def row(xy: np.ndarray, scale: np.ndarray, direction: np.ndarray) -> np.ndarray:
        return np.column_stack([xy, scale, 3 * np.cos(direction), 3 * np.sin(direction)])

    a = row(
        np.array([p.pt for p in points]), np.array([p.size / 2 for p in points]),
        np.radians([p.angle for p in points]),
    )  # fmt: skip
    b = row(found.xy[ours.blob], found.scale[ours.blob], ours.direction)
    far, at = cKDTree(b).query(a)
    assert len(points) > 500
    assert (far < 0.05).mean() > 0.995
    assert (cKDTree(a).query(b)[0] < 0.05).mean() > 0.99
    same = far < 0.05
    x, y = theirs[same], ours.descriptors[at[same]]
    alike = (x * y).sum(1) / np.linalg.norm(x, axis=1) / np.linalg.norm(y, axis=1)
    assert np.median(alike) > 0.997
    assert np.quantile(alike, 0.01) > 0.98


def test_pixels_that_stand_out_are_those_of_plain_numpy(gray: np.ndarray) -> None:
    stack = next(sift.octaves_of(gray[150:240, 150:280]))
    d = np.diff(stack, axis=0)
    rim, low = sift_kernels.RIM, np.float32(0.6)
    most, least = maximum_filter(d, 3), minimum_filter(d, 3)
    out = ((d == most) & (d > low)) | ((d == least) & (d < -low))
    out[0] = out[-1] = False
    out[:, :rim] = out[:, -rim:] = out[:, :, :rim] = out[:, :, -rim:] = False
    ours = sift_kernels.candidates(stack, low)
    assert len(ours) > 50
    assert {tuple(r) for r in ours.tolist()} == {tuple(r) for r in np.argwhere(out).tolist()}


def plain_descriptor(picture: np.ndarray, x: float, y: float, scale: float, direction: float) -> np.ndarray:
    """A descriptor by the letter (Lowe 2004, section 6.1), pixel by pixel."""
    out = np.zeros((4, 4, 8))
    reach = int(12 * scale)
    for v in range(int(y) - reach, int(y) + reach + 1):
        for u in range(int(x) - reach, int(x) + reach + 1):
            if not (0 < v < picture.shape[0] - 1 and 0 < u < picture.shape[1] - 1):
                continue
            dx, dy = (u - x) / (3 * scale), (v - y) / (3 * scale)
            c, s = np.cos(direction), np.sin(direction)
            column, row = dx * c + dy * s + 1.5, -dx * s + dy * c + 1.5
            gx = float(picture[v, u + 1]) - float(picture[v, u - 1])
            gy = float(picture[v + 1, u]) - float(picture[v - 1, u])
            way = ((direction - np.arctan2(gy, gx)) % (2 * np.pi)) * 8 / (2 * np.pi)
            weight = np.hypot(gx, gy) * np.exp(-(dx * dx + dy * dy) / 8)
            for i in range(4):
                for j in range(4):
                    for k in range(8):
                        off = abs(way - k)
                        near = [1 - abs(row - i), 1 - abs(column - j), 1 - min(off, 8 - off)]
                        if min(near) > 0:
                            out[i, j, k] += weight * np.prod(near)
    flat = out.ravel()
    return np.minimum(flat, 0.2 * np.linalg.norm(flat))


@pytest.mark.parametrize(("x", "y", "direction"), [(60.3, 41.8, 0.4), (60.3, 41.8, 4.0), (6.1, 30.0, 1.2)])
def test_a_descriptor_is_that_of_plain_numpy(gray: np.ndarray, x: float, y: float, direction: float) -> None:
    picture = cv2.GaussianBlur(gray[100:190, 100:230].astype(np.float32), (0, 0), 1.6)
    ours = np.empty((1, 128), np.float32)
    sift_gradients.describe(picture, np.array([[x, y, 1.7, direction]], np.float32), ours)
    plain = plain_descriptor(picture, x, y, 1.7, direction)
    assert np.abs(ours[0] - plain).max() < 2e-3 * plain.max()


def test_small_and_flat_pictures_have_none() -> None:
    for shape in ((7, 9), (3, 300), (40, 40)):
        found, layers = sift.blobs(np.full(shape, 90, np.uint8))
        assert len(found) == 0
        assert len(sift.described(layers, found, np.arange(0), 10).blob) == 0
