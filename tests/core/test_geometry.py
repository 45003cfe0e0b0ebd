"""Cameras and poses, against OpenCV as an independent implementation and by property."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vast_quarry.core.camera import Camera, distort, project, undistort, undistort_maps
from vast_quarry.core.pose import (
    Similarity,
    fit_similarity,
    look_at,
    rotation_angle_deg,
    rotation_between,
    rotation_from_vector,
)

LENS = Camera(1600, 1200, 1800.0, 1805.0, 806.0, 595.0, -0.09, 0.05, -0.01, 0.0007, -0.0005)
small = st.floats(-1.2, 1.2)


def test_project_agrees_with_opencv(rng: np.random.Generator) -> None:
    w = rng.normal(0, 0.4, 3)
    rotation, center = rotation_from_vector(w), rng.normal(0, 0.2, 3)
    points = rng.normal(0, 0.5, (200, 3)) + rotation.T @ [0, 0, 4.0] + center
    ours, depth = project(LENS, rotation, center, points)
    coefficients = np.array([LENS.k1, LENS.k2, LENS.p1, LENS.p2, LENS.k3])
    theirs, _ = cv2.projectPoints(points, w, -rotation @ center, LENS.matrix, coefficients)
    assert (depth > 0).all()
    np.testing.assert_allclose(ours, theirs[:, 0], atol=1e-7)


@given(st.floats(0, 1599), st.floats(0, 1199))
def test_undistort_undoes_distort(u: float, v: float) -> None:
    xy = undistort(np.array([[u, v]]), LENS)
    back = distort(xy, LENS) * [LENS.fx, LENS.fy] + [LENS.cx, LENS.cy]
    np.testing.assert_allclose(back, [[u, v]], atol=1e-6)


def test_undistort_maps_point_into_the_photo() -> None:
    mx, my = undistort_maps(LENS, LENS.pinhole())
    assert mx.shape == (1200, 1600)
    # at the principal point nothing moves
    assert mx[595, 806] == pytest.approx(806, abs=1e-3)
    assert my[595, 806] == pytest.approx(595, abs=1e-3)
    # barrel distortion: corners of the straight photo lie further in in the real one
    assert mx[0, 0] > 0
    assert my[0, 0] > 0


def test_scaled_keeps_pixel_edges_together() -> None:
    half = LENS.scaled(800, 600)
    # the left edge of the first pixel is at -0.5 in both
    assert (half.cx + 0.5) * 2 == pytest.approx(LENS.cx + 0.5)
    assert half.fx * 2 == pytest.approx(LENS.fx)


@given(small, small, small)
@settings(max_examples=60)
def test_rotation_vector_round_trip(a: float, b: float, c: float) -> None:
    r = rotation_from_vector([a, b, c])
    np.testing.assert_allclose(r @ r.T, np.eye(3), atol=1e-12)
    theirs, _ = cv2.Rodrigues(np.array([a, b, c]))
    np.testing.assert_allclose(r, theirs, atol=1e-9)


@pytest.mark.parametrize("b", [(0, 0, 1), (0, 0, -1), (1, 2, 3)])
def test_rotation_between(b: tuple) -> None:
    a = np.array([0.0, 0.0, 1.0])
    turned = rotation_between(a, b) @ a
    np.testing.assert_allclose(turned, np.asarray(b) / np.linalg.norm(b), atol=1e-9)


def test_look_at_sees_target_in_the_middle_and_top_up() -> None:
    r = look_at([3, 0, 1], [0, 0, 0.5])
    px, z = project(Camera.simple(100, 80, 90.0), r, [3, 0, 1], [[0, 0, 0.5], [0, 0, 0.9]])
    assert z[0] > 0
    np.testing.assert_allclose(px[0], [49.5, 39.5], atol=1e-9)
    assert px[1, 1] < px[0, 1]


def test_fit_similarity_recovers(rng: np.random.Generator) -> None:
    true = Similarity(2.5, rotation_from_vector([0.3, -0.2, 0.9]), np.array([1.0, -2.0, 0.5]))
    a = rng.normal(0, 1, (30, 3))
    fit = fit_similarity(a, true.points(a))
    assert fit.scale == pytest.approx(2.5)
    assert rotation_angle_deg(fit.rotation @ true.rotation.T) < 1e-6
    np.testing.assert_allclose(fit.after(fit.inverse()).points(a), a, atol=1e-9)
    with pytest.raises(ValueError, match="N >= 3"):
        fit_similarity(a[:2], a[:2])


def test_similarity_moves_cameras_and_points_alike(rng: np.random.Generator) -> None:
    s = Similarity(0.7, rotation_from_vector([0.1, 0.5, -0.3]), np.array([0.2, 0.1, -0.4]))
    r, c = look_at([2, 1, 1], [0, 0, 0]), np.array([2.0, 1.0, 1.0])
    x = rng.normal(0, 0.2, (20, 3))
    before, _ = project(LENS, r, c, x)
    after, _ = project(LENS, *s.pose(r, c), s.points(x))
    np.testing.assert_allclose(before, after, atol=1e-8)
