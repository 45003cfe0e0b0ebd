"""Light that is worked out from colours, and taken out of them."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from vast_quarry.core.directions import even_directions
from vast_quarry.core.photo.srgb import coded, linear
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.texture.light import (
    SKY,
    blocked,
    find_light,
    harmonics,
    sunlit,
    transfers,
    unlit,
)

LIFT = 0.01


def subject() -> tuple[np.ndarray, np.ndarray, np.ndarray, RayScene]:
    """A ball with a plate over a part of it, and walls about its foot: (vertices, faces, normals, scene)."""
    ball = trimesh.creation.icosphere(5)
    plate = (
        trimesh.creation.box((0.9, 0.9, 0.05)).apply_translation((0.5, 0.3, 1.5)).subdivide().subdivide().subdivide()
    )
    wall = trimesh.creation.box((0.1, 1.2, 1.2)).apply_translation((-1.5, 0, -0.3)).subdivide().subdivide().subdivide()
    whole = trimesh.util.concatenate([ball, plate.subdivide(), wall.subdivide()])
    v, f = np.array(whole.vertices), np.array(whole.faces)
    scene = RayScene()
    scene.add(v, f)
    return v, f, vertex_normals(v, f), scene


def painted(p: np.ndarray) -> np.ndarray:
    """Reflectance (N,): stains of two tones and a tenth that is darker by far."""
    tone = np.where(np.sin(9 * p[:, 0]) * np.sin(8 * p[:, 1] + 1) * np.sin(7 * p[:, 2]) > 0, 0.34, 0.28)
    return np.where(np.sin(31 * p).prod(1) > 0.45, 0.08, tone)


def sky_over(v: np.ndarray, n: np.ndarray, scene: RayScene) -> np.ndarray:
    """Brighter overhead, a dim bounce from what is in the way: (N,), worked out direction by direction."""
    total = np.zeros(len(v))
    for d in even_directions(200):
        facing = np.maximum(n @ d, 0)
        free = ~blocked(scene, v + LIFT * n, d)
        total += facing * np.where(free, 0.5 + 0.4 * d[2] if d[2] > 0 else 0.2, 0.2)
    return total * 4 / 200


def test_what_an_open_sky_gives_is_the_closed_form() -> None:
    """An even sky gives every place the same; one as the cosine to the pole gives two thirds of it (Ramamoorthi and Hanrahan 2001)."""
    n = even_directions(50)
    scene = RayScene()
    scene.add(np.eye(3) * 1e-3 + [0, 0, 100.0], np.array([[0, 1, 2]]))
    t = transfers(scene, np.zeros((50, 3)), n, 0.0, 4000)
    # of irradiance over pi: A_0 = 1, A_1 = 2/3, A_2 = 1/4 of each band
    share = np.array([1, *[2 / 3] * 3, *[1 / 4] * 5])
    np.testing.assert_allclose(t[:, :9], harmonics(n) * share, atol=0.01)
    np.testing.assert_allclose(t[:, 9], 0, atol=1e-9)


def test_a_sky_is_taken_out_and_paint_stays() -> None:
    v, _, n, scene = subject()
    lit = sky_over(v, n, scene)
    paint = painted(v)
    colors = 255 * np.repeat(coded(paint * lit)[:, None], 3, axis=1)
    light = find_light(scene, v, n, colors, LIFT)
    assert light.sun is None
    factor = transfers(scene, v, n, LIFT) @ light.sky / light.middle
    after = linear(unlit(colors, factor, 1.0).round().astype(np.uint8))[:, 0] / paint
    seen = lit > np.quantile(lit, 0.02)
    before = np.std(np.log(lit[seen]))
    assert np.std(np.log(after[seen])) < 0.35 * before
    # half of it: between the two
    half = linear(unlit(colors, factor, 0.5).round().astype(np.uint8))[:, 0] / paint
    assert np.std(np.log(after[seen])) < np.std(np.log(half[seen])) < before
    np.testing.assert_allclose(unlit(colors, factor, 0.0), colors, atol=0.6)


@pytest.mark.parametrize("sun", [(-0.8, 0.2, 0.35)])
def test_a_sun_is_found_with_its_shadow(sun: tuple[float, float, float]) -> None:
    v, _, n, scene = subject()
    d = np.array(sun) / np.linalg.norm(sun)
    lit = sky_over(v, n, scene) + 1.1 * sunlit(scene, v, n, d, LIFT)
    paint = painted(v)
    colors = 255 * np.repeat(coded((paint * lit).clip(0, 1))[:, None], 3, axis=1)
    light = find_light(scene, v, n, colors, LIFT)
    assert light.sun is not None
    assert np.degrees(np.arccos(light.sun @ d)) < 3.0
    assert light.from_where is not None
    assert light.from_where[1] == pytest.approx(np.degrees(np.arcsin(d[2])), abs=3)
    factor = transfers(scene, v, n, LIFT) @ light.sky + light.sun_strength * sunlit(scene, v, n, light.sun, LIFT)
    after = linear(unlit(colors, factor / light.middle, 1.0).round().astype(np.uint8))[:, 0] / paint
    seen = lit > np.quantile(lit, 0.02)
    # at the very edge of a shadow a place may be taken for lit
    spread = lambda x: np.subtract(*np.quantile(np.log(x[seen]), [0.9, 0.1]))  # noqa: E731
    assert spread(after) < 0.3 * spread(lit)


def test_paint_alone_is_taken_for_no_light() -> None:
    """An evenly lit ball with stains: next to nothing is taken out."""
    ball = trimesh.creation.icosphere(5)
    v, f = np.array(ball.vertices), np.array(ball.faces)
    scene = RayScene()
    scene.add(v, f)
    colors = 255 * np.repeat(coded(painted(v))[:, None], 3, axis=1)
    light = find_light(scene, v, v, colors, LIFT)
    assert light.sun is None
    assert light.spread < 1.1
    assert SKY > 50
