"""Which photos see a spot, against what the rig knows."""

from __future__ import annotations

import numpy as np
import pytest
from tests.conftest import RigSet, camera_of

from vast_quarry.core.camera import Camera, project
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.texture.sights import Sight, normal_about, sights

LENS = Camera(400, 300, 500.0, 500.0, 199.5, 149.5)


def looking(center: tuple[float, float, float]) -> np.ndarray:
    """Rotation of a camera that looks at the origin, with Z up in the picture."""
    forward = -np.array(center) / np.linalg.norm(center)
    right = np.cross(forward, [0, 0, 1.0] if abs(forward[2]) < 0.9 else [0, 1.0, 0])
    right /= np.linalg.norm(right)
    return np.array([right, np.cross(forward, right), forward])


def seen(centers: list[tuple[float, float, float]], wall: bool = False) -> list[Sight]:
    """A spot in the middle of a square of a metre that faces +X, perhaps with a wall before its left half."""
    scene = RayScene()
    corners = np.array([[0, -0.5, -0.5], [0, 0.5, -0.5], [0, 0.5, 0.5], [0, -0.5, 0.5]])
    faces = np.array([[0, 1, 2], [0, 2, 3]])
    scene.add(corners, faces)
    if wall:
        scene.add(corners + np.array([0.5, 0.52, 0]), faces)
    rotations = np.array([looking(c) for c in centers])
    side = 0.1
    return sights(np.zeros(3), np.array([1.0, 0, 0]), side, scene, list(range(len(centers))), [LENS] * len(centers), rotations, np.array(centers))  # fmt: skip


def test_straight_on_and_near_comes_first_and_what_is_behind_not_at_all() -> None:
    found = seen([(4, 0, 0), (2, 0, 0), (1.5, 1.5, 0), (-2, 0, 0), (0.05, 2, 0)])
    assert [s.row for s in found] == [1, 2, 0]
    assert found[0].angle == pytest.approx(0, abs=1e-6)
    assert found[1].angle == pytest.approx(45, abs=1e-6)
    # a pixel at two metres through 500 px, and squares of angle and size against the best
    assert found[0].gsd == pytest.approx(2 / 500)
    assert [s.weight for s in found] == pytest.approx([1, 0.5 * (2 / np.sqrt(4.5)) ** 2, 0.25])


def test_the_outline_goes_round_the_patch() -> None:
    (found,) = seen([(2, 0, 0)])
    x, y = found.outline.T
    area = 0.5 * abs(np.dot(x, np.roll(y, 1)) - np.dot(y, np.roll(x, 1)))
    # a tenth of a metre at two metres through 500 px
    assert area == pytest.approx(25**2)
    np.testing.assert_allclose(found.outline.mean(0), found.at)
    np.testing.assert_allclose(found.at, [199.5, 149.5])


def test_what_a_wall_hides_by_half_counts_half_and_by_more_not_at_all() -> None:
    # the wall's edge stands at y = 0.02 half a metre before the spot: from the front it hides what lies to the left of about 0.027
    (found,) = seen([(2, 0, 0)], wall=True)
    assert found.clear == pytest.approx(6 / 9)
    assert seen([(2, 0.5, 0)], wall=True) == []


def test_the_photos_of_the_rig_see_what_the_rig_says(ring_set: RigSet) -> None:
    """Spots of the true mesh: the photos that see them are those in which nothing lies before the spot."""
    mesh, cameras = ring_set.mesh, ring_set.cameras
    assert mesh.faces is not None
    scene = RayScene()
    scene.add(mesh.points, mesh.faces)
    normals = vertex_normals(mesh.points, mesh.faces)
    lenses = [camera_of(c) for c in cameras]
    rotations, centers = np.array([c["rotation"] for c in cameras]), np.array([c["center"] for c in cameras])
    gsd = ring_set.info["gsd"]
    body = np.flatnonzero(mesh.points[:, 2] > 0.05)
    agree = []
    for k in np.random.default_rng(1).choice(body, 40, replace=False):
        spot = mesh.points[k]
        normal = normal_about(spot, mesh.points, normals, 4 * gsd)
        found = {s.row for s in sights(spot, normal, 8 * gsd, scene, range(16), lenses, rotations, centers)}
        for row in range(16):
            line = spot - centers[row]
            first = scene.cast(np.concatenate([centers[row], line])[None].astype(np.float32))["t"][0]
            pixel, _ = project(lenses[row], rotations[row], centers[row], spot[None])
            facing = -normal @ line / np.linalg.norm(line)
            if abs(facing - 0.1) < 0.15:  # as good as edge-on either may be said
                continue
            inside = bool((pixel >= 0).all() and (pixel <= [399, 299]).all())
            agree.append((row in found) == bool(first > 0.995 and facing > 0.1 and inside))
    assert len(agree) > 300
    assert np.mean(agree) > 0.97
