"""The best that any texture could show of a subject whose light changes from photo to photo: a bound for the texture's figures.

A texture has one colour at a place. Where what is seen there changes with the camera (gloss) or with the turn of the table (a key light
that stays in the room), no colour is right in all views. Here the colours are made from the truth: surface, cameras, light and paint are
known exactly, every photo that sees a place says what it shows there without noise or blur, and their mean by the area that a place takes
in each is what a texture then shows. Held against the held-out views as the scorer does: within the subject, after a gain and an offset a
channel.

    python -m benchmarks.best_texture [--on gloss,window] [--plan ring:3x16] [--size 1200x900] [--seed 2]
"""

from __future__ import annotations

import argparse

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.raycast import visible_from
from vast_quarry.core.rig.render import Shot, Studio, to_srgb8
from vast_quarry.core.rig.shoot import Set, ShootSettings, _between, stations_for
from vast_quarry.core.surface.mesh import vertex_normals
from vast_quarry.core.texture.coloring import pixel_rays

Floats = NDArray[np.float64]
#: pixels at the rim of the subject that are left out, and places of a view that are looked at
RIM, PLACES = 7, 40_000


def likeness(made: Floats, true: Floats) -> float:
    """PSNR in dB of colours (N, 3) in 0..255, after the gain and offset of each channel that bring them nearest."""
    ones = np.ones(len(made))
    out = [
        np.stack([m, ones], 1) @ np.linalg.lstsq(np.stack([m, ones], 1), t, rcond=None)[0]
        for m, t in zip(made.T, true.T)
    ]
    return float(-10 * np.log10(((np.array(out).T - true) ** 2).mean() / 255**2))


def paint_of(studio: Studio, shot: Shot) -> NDArray:
    """Linear colours of a view without gloss and key light."""
    gloss, key = studio.gloss, studio.key
    studio.gloss, studio.key = 0.0, False
    linear, _ = studio.radiance(shot)
    studio.gloss, studio.key = gloss, key
    return linear


def main() -> None:
    """Print the bound of each held-out view, with and without the mean over photos."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--on", default="gloss")
    parser.add_argument("--plan", default="ring:3x16")
    parser.add_argument("--size", default="1200x900")
    parser.add_argument("--seed", type=int, default=2)
    a = parser.parse_args()
    rings, each = (int(n) for n in a.plan.removeprefix("ring:").split("x"))
    width, height = (int(n) for n in a.size.split("x"))
    settings = ShootSettings(
        scene="finial",
        rings=rings,
        per_ring=each,
        width=width,
        height=height,
        seed=a.seed,
        on=frozenset(a.on.split(",")),
    )
    studio_set = Set(settings)
    studio, lens = studio_set.studio, studio_set.camera.pinhole()
    stations = stations_for(studio_set.scene, studio_set.camera, settings)
    body = studio_set.scene.bodies[0]
    normals = vertex_normals(body.vertices, body.faces)
    rng = np.random.default_rng(0)
    told = []
    for view in _between(studio_set, stations):
        focus = float(np.linalg.norm(studio_set.scene.room.points(view.center[None])))
        shot = Shot(lens, view.rotation, view.center, focus=focus, exposure=1.0)
        true, cover = studio.radiance(shot)
        paint = paint_of(studio, shot)
        inside = cv2.erode((cover > 0.5).astype(np.uint8), np.ones((RIM, RIM), np.uint8)).ravel() > 0
        pick = rng.permutation(np.flatnonzero(inside))[:PLACES]
        rays = pixel_rays(lens, view.rotation, view.center)[pick]
        hit = studio_set.rays.cast(rays)
        points = rays[:, :3] + hit["t"][:, None] * rays[:, 3:]
        corner, uv = body.faces[hit["face"].astype(int)], hit["uv"]
        n = (
            normals[corner[:, 0]] * (1 - uv.sum(1))[:, None]
            + normals[corner[:, 1]] * uv[:, :1]
            + normals[corner[:, 2]] * uv[:, 1:]
        )
        n /= np.linalg.norm(n, axis=1, keepdims=True)
        base = paint.reshape(-1, 3)[pick].astype(float)
        total, weight = np.zeros((len(pick), 3)), np.zeros(len(pick))
        for s in stations:
            off = points - s.center
            far = np.linalg.norm(off, axis=1)
            cosine = -(off * n).sum(1) / far
            seen = visible_from(studio_set.rays, points, n, s.center, 0.001) & (cosine > 0.1)
            w = np.where(seen, np.maximum(cosine, 0) / far**2, 0)
            color = studio.lit(base, n, off / far[:, None], s.center)
            total += w[:, None] * to_srgb8(1.25 * color[None])[0]
            weight += w
        ok = weight > 0
        goal = to_srgb8(1.25 * true).reshape(-1, 3)[pick].astype(float)
        flat = to_srgb8(1.25 * paint).reshape(-1, 3)[pick].astype(float)
        told.append(
            (likeness((total / np.maximum(weight, 1e-12)[:, None])[ok], goal[ok]), likeness(flat[ok], goal[ok]))
        )
        print(f"mean of what photos show {told[-1][0]:.2f} dB, paint alone {told[-1][1]:.2f} dB", flush=True)
    print("all views: " + ", ".join(f"{m:.2f}" for m in np.mean(told, axis=0)) + " dB")


if __name__ == "__main__":
    main()
