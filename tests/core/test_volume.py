"""A surface out of depth maps: a ball, a thin plate seen from both sides, tiles that fit, what is looked through."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense.patchmatch import DepthMap
from vast_quarry.core.pose import look_at
from vast_quarry.core.raycast import MISS, RayScene
from vast_quarry.core.surface.mesh import face_normals
from vast_quarry.core.surface.volume import SIDE, Band, Lattice, Places, joined, tiles_of
from vast_quarry.core.texture.coloring import pixel_rays

CAMERA = Camera.simple(160, 160, 200.0)


def seen_by(v: np.ndarray, f: np.ndarray, centers: np.ndarray) -> list[tuple]:
    """Perfect depth maps of a mesh, from cameras that look at the origin."""
    scene = RayScene()
    scene.add(v, f)
    normals = face_normals(v, f)
    out = []
    for c in centers:
        pose = look_at(c, np.zeros(3), up=(0.0, 0.3, 1.0))
        hit = scene.cast(pixel_rays(CAMERA, pose, c))
        there = hit["face"] != MISS
        depth = np.where(there, hit["t"], 0).astype(np.float32).reshape(160, 160)
        n = normals[np.where(there, hit["face"], 0)].astype(np.float32).reshape(160, 160, 3)
        out.append((DepthMap(depth, n, np.full((160, 160), 0.1, np.float32)), CAMERA, pose, c))
    return out


def surface(points: np.ndarray, views: list[tuple], cell: float, order: int = 1) -> tuple[np.ndarray, np.ndarray]:
    lattice = Lattice(tuple(points.min(0) - 0.013), cell)
    parts, places = [], Places(points, lattice)
    for tile in tiles_of(points, lattice)[::order]:
        band = Band(tile, lattice, places.about(tile))
        for view in views:
            band.add(*view)
        parts.append((tile, *band.mesh()))
    return joined(parts, lattice)


def around(count: int, away: float) -> np.ndarray:
    """Places evenly about the origin, along a spiral by the golden angle."""
    z = 1 - (2 * np.arange(count) + 1) / count
    turn = np.arange(count) * np.pi * (3 - np.sqrt(5))
    return away * np.column_stack([np.sqrt(1 - z**2) * np.cos(turn), np.sqrt(1 - z**2) * np.sin(turn), z])


def test_a_ball_comes_out_as_large_as_it_is_in_tiles_that_fit() -> None:
    ball = trimesh.creation.icosphere(5)
    v, f = np.asarray(ball.vertices) * 0.5, np.asarray(ball.faces)
    views = seen_by(v, f, around(32, 2.0))
    cell = 0.02
    found, faces = surface(v, views, cell)
    assert 1.0 / cell > SIDE  # several tiles
    radius = np.linalg.norm(found, axis=1)
    assert np.median(radius) == pytest.approx(0.5, abs=0.02 * cell)
    assert np.abs(radius - 0.5).max() < 0.3 * cell
    mesh = trimesh.Trimesh(found, faces, process=False)
    assert mesh.is_watertight
    assert mesh.is_winding_consistent
    assert mesh.volume == pytest.approx(4 / 3 * np.pi * 0.125, rel=0.01)  # outwards
    # the order of tiles changes nothing
    again, same = surface(v, views, cell, order=-1)
    assert len(again) == len(found)
    assert len(same) == len(faces)


def test_a_plate_three_cells_thin_keeps_both_its_sides(rng: np.random.Generator) -> None:
    cell = 0.02
    plate = trimesh.creation.box((1.0, 1.0, 3 * cell)).subdivide().subdivide().subdivide()
    v, f = np.asarray(plate.vertices), np.asarray(plate.faces)
    tilted = around(60, 2.0)
    tilted = tilted[np.abs(tilted[:, 2]) > 0.8]
    points = np.concatenate(
        [rng.uniform(-0.5, 0.5, (60_000, 3)) * [1, 1, 0] + [0, 0, z] for z in (-1.5 * cell, 1.5 * cell)]
    )
    found, faces = surface(points, seen_by(v, f, tilted), cell)
    middle = (np.abs(found[:, :2]) < 0.4).all(1)
    up, low = found[middle & (found[:, 2] > 0), 2], found[middle & (found[:, 2] < 0), 2]
    assert len(up) > 1000
    assert len(low) > 1000
    assert np.median(up) == pytest.approx(1.5 * cell, abs=0.15 * cell)
    assert np.median(low) == pytest.approx(-1.5 * cell, abs=0.15 * cell)
    assert len(faces) > 5000


def test_what_photos_look_through_is_no_surface(rng: np.random.Generator) -> None:
    """Two photos imagine a scrap before the wall; six look through the place where it would be."""
    wall = trimesh.creation.box((2.0, 2.0, 0.2)).subdivide().subdivide()
    v, f = np.asarray(wall.vertices) - [0, 0, 0.1], np.asarray(wall.faces)
    centers = np.column_stack([rng.uniform(-0.6, 0.6, (8, 2)), np.full(8, 2.0)])
    views = seen_by(v, f, centers)
    for depth, camera, pose, c in views[:2]:
        y, x = np.mgrid[:160, :160]
        scrap = (x - 80) ** 2 + (y - 80) ** 2 < 15**2
        ray = np.linalg.norm(c) * 0.85
        depth.depth[scrap] = ray
        depth.normal[scrap] = -pose[2]
        assert camera is CAMERA
    scrap = rng.uniform(-0.12, 0.12, (4000, 3)) + np.array((0, 0, 0.3))
    points = np.concatenate([rng.uniform(-0.6, 0.6, (40_000, 3)) * [1, 1, 0], scrap])
    found, _ = surface(points, views, 0.02)
    near = (np.abs(found[:, :2]) < 0.5).all(1)
    assert near.sum() > 1000
    assert np.abs(found[near, 2]).max() < 0.03
    # the two alone would have it
    alone, _ = surface(points, views[:2], 0.02)
    assert (alone[:, 2] > 0.2).sum() > 30


def test_where_nothing_was_seen_there_is_nothing() -> None:
    ball = trimesh.creation.icosphere(4)
    v, f = np.asarray(ball.vertices) * 0.5, np.asarray(ball.faces)
    views = seen_by(v, f, np.array([[0.3, 0, 2.0], [-0.3, 0, 2.0], [0, 0.3, 2.0]]))
    found, faces = surface(v, views, 0.03)
    assert found[:, 2].min() > -0.05
    assert len(faces) > 300
    none, empty = surface(v, [], 0.03)
    assert len(none) == len(empty) == 0
