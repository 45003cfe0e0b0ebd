"""Refinement by the photos: a ball that was made too bumpy comes back to its shape."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
import trimesh

from vast_quarry.core.camera import Camera, project
from vast_quarry.core.pose import look_at
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import midpoints
from vast_quarry.core.surface.refine import (
    ASKED,
    HALF,
    HEARD,
    PLACES,
    Patches,
    Witness,
    chosen,
    edge_length,
    facing,
    spread,
)
from vast_quarry.core.texture.coloring import edge_ramp, mesh_depth, pixel_rays

#: a pixel on the ball
GSD = 0.0035
LENS = Camera(320, 320, 520.0, 520.0, 158.0, 161.0, k1=-0.08)


def shade(p: np.ndarray) -> np.ndarray:
    """Grey levels of places (N, 3) of a solid full of grain."""
    x, y, z = 60 * p.T
    coarse = np.sin(x + 1.7 * np.sin(0.7 * y)) + np.sin(1.3 * y + 1.1 * np.sin(0.6 * z)) + np.sin(0.9 * z + np.sin(x))
    fine = np.sin(2.6 * x + y) * np.sin(2.1 * y - z) * np.sin(2.4 * z + x)
    return 128 + 20 * coarse + 40 * fine


def photo_of_ball(center: np.ndarray, rotation: np.ndarray, radius: float) -> np.ndarray:
    d = pixel_rays(LENS, rotation, center)[:, 3:].astype(float)
    a, b, c = (d * d).sum(1), d @ center, center @ center - radius**2
    root = b * b - a * c
    t = (-b - np.sqrt(np.maximum(root, 0))) / a
    value = np.where(root > 0, shade(center + t[:, None] * d), 30.0)
    return value.clip(0, 255).round().astype(np.uint8).reshape(LENS.height, LENS.width)


def witnesses(v: np.ndarray, f: np.ndarray, count: int = 14) -> list[Witness]:
    scene = RayScene()
    scene.add(v, f)
    out = []
    for k in range(count):
        turn = 2 * np.pi * k / count
        center = np.array([2.2 * np.cos(turn), 2.2 * np.sin(turn), 0.5 * (-1) ** k])
        rotation = look_at(center, np.zeros(3), up=(0, 0, 1))
        small = LENS.scaled(160, 160)
        depth = mesh_depth(scene, small, rotation, center)
        out.append(
            Witness(photo_of_ball(center, rotation, 0.5), depth, edge_ramp(depth, None, 3.0), LENS, rotation, center)
        )
    return out


def patches_of(v: np.ndarray, f: np.ndarray, seen: list[Witness]) -> Patches:
    points, normals = v.astype(np.float32), facing(v, f, GSD).astype(np.float32)
    weights = np.stack([w.weights(points, normals) for w in seen])
    centers = np.stack([w.center for w in seen]).astype(np.float32)
    photos = np.full((len(v), ASKED), -1, np.int32)
    chosen(weights, points, centers, photos)
    gsd = (np.linalg.norm(centers[np.maximum(photos[:, 0], 0)] - points, axis=1) / LENS.fx).astype(np.float32)
    patches = Patches(points, normals, photos, centers, gsd)
    for k, w in enumerate(seen):
        patches.add(k, w)
    return patches


def asked(v: np.ndarray, f: np.ndarray, seen: list[Witness]) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    patches = patches_of(v, f, seen)
    shift, sure, now = patches.found()
    return shift, sure, patches.step, now


@pytest.fixture(scope="module")
def bumpy() -> tuple[np.ndarray, np.ndarray]:
    ball = trimesh.creation.icosphere(5)
    v, f = np.asarray(ball.vertices), np.asarray(ball.faces)
    off = 0.004 * np.sin(9 * v[:, 0]) * np.sin(8 * v[:, 2])  # a pixel is 0.0035
    return v * (0.5 + off + np.random.default_rng(4).normal(0, 0.0006, len(v)))[:, None], f


def test_a_bumpy_ball_becomes_round_and_photos_agree_better(bumpy: tuple[np.ndarray, np.ndarray]) -> None:
    v, f = bumpy
    seen = witnesses(v, f)
    agreement = []
    middle = np.abs(v[:, 2]) < 0.35  # the poles are seen by nobody
    before = np.abs(np.linalg.norm(v, axis=1) - 0.5)[middle]
    for _ in range(2):
        shift, sure, step, now = asked(v, f, seen)
        agreement.append(np.nanmean(now))
        v = v + spread(shift, sure, step, edge_length(v, f), f)[:, None] * facing(v, f, GSD)
    agreement.append(np.nanmean(asked(v, f, seen)[3]))
    after = np.abs(np.linalg.norm(v, axis=1) - 0.5)[middle]
    assert np.median(after) < 0.2 * np.median(before)
    assert np.quantile(after, 0.9) < 0.3 * np.quantile(before, 0.9)
    assert np.median(after) < 0.07 * GSD  # of a pixel
    assert agreement[0] < agreement[1] <= agreement[2] + 1e-3


def by_numpy(patches: Patches, n: int) -> tuple[float, float, float]:
    """Shift in steps of a vertex, how sure it is and how photos agree now, out of its samples (the kernels' plain twin)."""
    z = patches.samples[n][patches.there[n]].astype(float)
    z -= z.mean(2, keepdims=True)
    z /= np.linalg.norm(z, axis=2, keepdims=True)

    def score(z: np.ndarray) -> np.ndarray:
        agree = np.einsum("spm,tpm->pst", z, z)
        return (agree.sum((1, 2)) - len(z)) / (len(z) * (len(z) - 1))

    all_of_them = score(z)
    now, best = all_of_them[PLACES // 2], int(all_of_them.argmax())
    rest = z[:, best].sum(0) - z[:, best]
    heard = (rest * z[:, best]).sum(1) > HEARD * np.linalg.norm(rest, axis=1)
    s = score(z[heard])
    best = int(s.argmax())
    if best in (0, PLACES - 1):
        return 0.0, 0.0, now
    below, above = s[best] - s[best - 1], s[best] - s[best + 1]
    shift = best - PLACES // 2 + 0.5 * (below - above) / (below + above)
    return shift, (below + above) * max(s[best] - 0.3, 0) * (heard.sum() - 1), now


def test_kernels_say_what_plain_numpy_says(bumpy: tuple[np.ndarray, np.ndarray]) -> None:
    v, f = bumpy
    seen = witnesses(v, f)
    seen[3].gray[:] = np.random.default_rng(8).integers(0, 255, seen[3].gray.shape)
    patches = patches_of(v, f, seen)
    some = np.flatnonzero(patches.there.sum(1) >= 3)[::97]
    # what a photo shows: places along the normal, rows and columns of the patch, each read between four pixels
    shown = patches.samples.copy()
    for n in some[:20]:
        for s in np.flatnonzero(patches.there[n]):
            w = seen[patches.photos[n, s]]
            away = (np.arange(PLACES) - PLACES // 2)[:, None, None, None] * patches.step[n] * patches.normals[n]
            side = np.arange(-HALF, HALF + 1) * patches.gsd[n]
            at = (
                patches.points[n] + away + side[:, None, None] * patches.up[n] + side[None, :, None] * patches.across[n]
            )
            pixel, _ = project(w.camera, w.rotation, w.center, at.reshape(-1, 3).astype(float))
            read = cv2.remap(w.gray.astype(np.float32), *pixel.astype(np.float32).T[:, None], cv2.INTER_LINEAR)
            # the affine map of so small a patch is off by a hundredth of a pixel
            np.testing.assert_allclose(shown[n, s].ravel(), read.ravel(), atol=4.0)
            assert np.abs(shown[n, s].ravel() - read.ravel()).mean() < 0.6
    shift, sure, now = patches.found()
    for n in some:
        patches.samples[n] = shown[n]
        expected = by_numpy(patches, n)
        np.testing.assert_allclose([shift[n] / patches.step[n], sure[n], now[n]], expected, atol=1e-4)


def test_one_photo_with_something_before_it_is_not_heard(bumpy: tuple[np.ndarray, np.ndarray]) -> None:
    v, f = bumpy
    seen = witnesses(v, f)
    rng = np.random.default_rng(8)
    seen[3].gray[:] = rng.integers(0, 255, seen[3].gray.shape)
    for _ in range(2):
        shift, sure, step, _ = asked(v, f, seen)
        v = v + spread(shift, sure, step, edge_length(v, f), f)[:, None] * facing(v, f, GSD)
    before_it = (v @ (seen[3].center / np.linalg.norm(seen[3].center))) > 0.35
    off = np.abs(np.linalg.norm(v, axis=1) - 0.5)[before_it]
    assert np.median(off) < 0.12 * GSD


def test_where_there_is_nothing_to_see_vertices_follow_their_neighbours() -> None:
    plane = trimesh.creation.box((1, 1, 0.2)).subdivide().subdivide().subdivide()
    f = np.asarray(plane.faces)
    shift = np.full(len(plane.vertices), 0.3)
    sure = np.ones(len(shift))
    blind = np.random.default_rng(2).random(len(shift)) < 0.3
    shift[blind], sure[blind] = 50.0, 0.0
    found = spread(shift, sure, np.full(len(shift), 0.1), 0.1, f)
    np.testing.assert_allclose(found, 0.3, atol=0.02)
    assert not spread(shift, np.zeros(len(shift)), sure, 0.1, f).any()


def test_flat_photos_say_nothing() -> None:
    ball = trimesh.creation.icosphere(3)
    v, f = np.asarray(ball.vertices) * 0.5, np.asarray(ball.faces)
    seen = witnesses(v, f)
    for w in seen:
        w.gray[:] = 127
    shift, sure, _, now = asked(v, f, seen)
    assert not sure.any()
    assert not shift.any()
    assert np.isnan(now).all()


def test_photos_that_are_asked_look_from_apart() -> None:
    """Six photos from nearly one place and one from the side, which counts less but tells the distance."""
    centers = np.array([[0.01 * k, 0, 2] for k in range(6)] + [[1.2, 0, 1.6]], np.float32)
    weights = np.array([[1.0 - 0.01 * k] for k in range(6)] + [[0.3]], np.float32)
    out = np.full((1, ASKED), -1, np.int32)
    chosen(weights, np.zeros((1, 3), np.float32), centers, out)
    assert out[0].tolist() == [0, 6, *[-1] * (ASKED - 2)]
    assert PLACES % 2 == 1
    assert HALF > 1


def test_halved_edges_keep_shape_and_topology() -> None:
    ball = trimesh.creation.icosphere(2)
    v, f = midpoints(np.asarray(ball.vertices), np.asarray(ball.faces))
    fine = trimesh.Trimesh(v, f, process=False)
    assert len(f) == 4 * len(ball.faces)
    assert fine.is_watertight
    assert fine.volume == pytest.approx(ball.volume)
    assert fine.area == pytest.approx(ball.area)
