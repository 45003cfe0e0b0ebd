"""Soft sky light with occlusion, baked at the vertices of a scene.

The irradiance at a vertex is the mean over cosine-weighted directions of what is seen there: sky (brighter overhead,
the same all round, so that a turning table does not change it) or, where a surface blocks, a dim bounce. A sun stands still, so it
is only for what does not turn on a table.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.raycast import RayScene
from vast_quarry.core.rig.scenes import Scene
from vast_quarry.core.surface.mesh import vertex_normals

BOUNCE = 0.22
#: towards a sun, where there is one, and how much it gives a place that faces it, of what an open sky gives
SUN, SUN_STRENGTH = np.array([0.62, -0.5, 0.6]) / np.linalg.norm([0.62, -0.5, 0.6]), 1.3


def hemisphere(count: int, seed: int) -> NDArray[np.float64]:
    """Cosine-weighted directions (count, 3) about +z, evenly spread (Fibonacci spiral)."""
    i = np.arange(count) + 0.5
    r = np.sqrt(i / count)
    a = i * np.pi * (3 - np.sqrt(5)) + seed
    return np.stack([r * np.cos(a), r * np.sin(a), np.sqrt(1 - r * r)], 1)


def ray_scene(scene: Scene) -> RayScene:
    """All bodies of a scene, numbered as in ``scene.bodies``."""
    rays = RayScene()
    for body in scene.bodies:
        rays.add(body.vertices, body.faces)
    return rays


def bake_light(scene: Scene, rays: RayScene, directions: int = 32, sun: bool = False) -> None:
    """Fill ``light`` of every body of the scene in place, with a ``sun`` besides the sky."""
    rng = np.random.default_rng(scene.seed)
    local = hemisphere(directions, scene.seed)
    for body in scene.bodies:
        n = vertex_normals(body.vertices, body.faces)
        helper = np.where(np.abs(n[:, :1]) > 0.8, [[0.0, 1.0, 0.0]], [[1.0, 0.0, 0.0]])
        t = np.cross(n, helper)
        t /= np.linalg.norm(t, axis=1, keepdims=True) + 1e-12
        b = np.cross(n, t)
        turn = rng.uniform(0, 2 * np.pi, len(n))
        t, b = (
            t * np.cos(turn)[:, None] + b * np.sin(turn)[:, None],
            b * np.cos(turn)[:, None] - t * np.sin(turn)[:, None],
        )
        origin = body.vertices + n * 3e-4
        total = np.zeros(len(n))
        for d in local:
            world = t * d[0] + b * d[1] + n * d[2]
            hit = rays.blocked(np.concatenate([origin, world], 1).astype(np.float32))
            up = world @ scene.room.rotation[2]
            open_sky = np.where(up > 0, 0.55 + 0.45 * up, BOUNCE)
            total += np.where(hit, BOUNCE, open_sky)
        body.light = _smoothed((total / directions).astype(np.float32), body.faces, len(n))
        if sun:
            free = ~rays.blocked(np.concatenate([origin, np.broadcast_to(SUN, n.shape)], 1).astype(np.float32))
            body.light += (SUN_STRENGTH * np.maximum(n @ SUN, 0) * free).astype(np.float32)


def _smoothed(values: NDArray[np.float32], faces: NDArray[np.int64], count: int) -> NDArray[np.float32]:
    """One round of averaging over faces, against the grain of the sampling."""
    mean = values[faces].mean(1)
    total = np.bincount(faces.ravel(), weights=np.repeat(mean, 3), minlength=count)
    weight = np.bincount(faces.ravel(), minlength=count)
    return (total / np.maximum(weight, 1)).astype(np.float32)
