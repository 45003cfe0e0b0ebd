"""A first look: the sparse points evened out, facing the photos that see them, good enough for a skin."""

from __future__ import annotations

import numpy as np
import pytest

from vast_quarry.core.dense.first_look import first_cloud
from vast_quarry.core.errors import PlainError
from vast_quarry.core.surface.poisson import median_spacing, poisson_surface


def ball_of_tracks(rng: np.random.Generator, count: int = 6000) -> dict:
    """Points of a ball, a third of them crowded in one spot, each seen by the photos on its side."""
    d = rng.normal(size=(count, 3))
    d[: count // 3] = [0, 0, 1] + 0.15 * d[: count // 3]
    d /= np.linalg.norm(d, axis=1, keepdims=True)
    centers = rng.normal(size=(40, 3))
    centers *= 4 / np.linalg.norm(centers, axis=1, keepdims=True)
    photos = [np.argsort(-(centers @ p))[:4] for p in d]
    return {
        "points": d + rng.normal(0, 0.002, d.shape), "colors": np.full((count, 3), 120, np.uint8), "photos": photos,
        "centers": centers, "focal": np.full(40, 1000.0), "sigma": np.full(count, 0.002, np.float32),
    }  # fmt: skip


def test_points_face_those_who_see_them_and_lie_evenly(rng: np.random.Generator) -> None:
    cloud = first_cloud(**ball_of_tracks(rng))
    outward = cloud.points / np.linalg.norm(cloud.points, axis=1, keepdims=True)
    cosine = (cloud.normals * outward).sum(1)
    assert (cosine > 0.9).mean() > 0.98
    crowded = cloud.points[:, 2] > 0.95
    assert crowded.mean() < 0.1  # of a third
    np.testing.assert_allclose(cloud.gsd, 3 / 1000, rtol=0.35)
    assert (cloud.views == 4).all()


def test_a_skin_through_them_is_the_ball(rng: np.random.Generator) -> None:
    cloud = first_cloud(**ball_of_tracks(rng))
    v, _ = poisson_surface(cloud.points, cloud.normals, 1.4 * median_spacing(cloud.points))
    assert np.median(np.abs(np.linalg.norm(v, axis=1) - 1)) < 0.2 * median_spacing(cloud.points)


def test_too_few_say_so(rng: np.random.Generator) -> None:
    few = ball_of_tracks(rng, 90)
    with pytest.raises(PlainError, match="too few places for a first look"):
        first_cloud(**few)
