"""Growth of the time to place cameras with their number, on made-up matches: a stone walked round on many rings.

Every photo finds some 60 % of the places that face it, one match in twenty is false, each photo is matched with the fourteen that
look from nearest. Rendering nothing, it shows how placing alone grows; ``--profile`` prints where the time of the last one goes.

    python benchmarks/growth.py [--photos 24 48 96 192 384] [--places 3000] [--profile]
"""

from __future__ import annotations

import argparse
import cProfile
import pstats
import time

import numpy as np

from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.incremental import align
from vast_quarry.core.align.model import Model
from vast_quarry.core.camera import Camera, project
from vast_quarry.core.pose import fit_similarity, look_at

LENS = Camera(800, 600, 930.0, 930.0, 402.0, 298.0, -0.08, 0.04)
RINGS, PARTNERS, FOUND, FALSE, NOISE = 8, 14, 0.6, 0.05, 0.15


def made_up(photos: int, places: int, seed: int = 1) -> tuple[AlignInput, np.ndarray]:
    """What matching would give, and the true centres."""
    rng = np.random.default_rng(seed)
    rings = min(RINGS, max(1, photos // 8))
    angle = 2 * np.pi * (np.arange(photos) // rings) / (photos // rings) + 0.1 * rng.standard_normal(photos)
    height = 0.2 + 1.1 * (np.arange(photos) % rings) / rings
    centers = np.stack([2.2 * np.cos(angle), 2.2 * np.sin(angle), height], 1)
    rotations = [look_at(c, [0, 0, 0.35]) for c in centers]
    # a pillar of places that face outwards: about ``places`` of them are seen by each photo
    total = int(2.4 * places / FOUND)
    round_it = rng.uniform(0, 2 * np.pi, total)
    radius = 0.35 + 0.03 * np.sin(7 * round_it)
    x = np.stack([radius * np.cos(round_it), radius * np.sin(round_it), rng.uniform(0, 0.8, total)], 1)
    normal = np.stack([np.cos(round_it), np.sin(round_it), np.zeros(total)], 1)
    seen, xy = [], []
    for r, c in zip(rotations, centers):
        px, z = project(LENS, r, c, x)
        ray = c - x
        faces = (ray * normal).sum(1) > 0.3 * np.linalg.norm(ray, axis=1)
        ok = faces & (z > 0) & (px > 2).all(1) & (px < [797, 597]).all(1) & (rng.random(total) < FOUND)
        seen.append(np.flatnonzero(ok))
        xy.append((px[ok] + rng.normal(0, NOISE, (int(ok.sum()), 2))).astype(np.float32))
    direction = centers / np.linalg.norm(centers, axis=1, keepdims=True)
    pairs = set()
    for i, near in enumerate(np.argsort(-(direction @ direction.T), axis=1)[:, 1 : PARTNERS + 1]):
        pairs |= {(min(i, int(j)), max(i, int(j))) for j in near}
    matches = {}
    for i, j in sorted(pairs):
        _, a, b = np.intersect1d(seen[i], seen[j], assume_unique=True, return_indices=True)
        if len(a) < 20:
            continue
        wrong = rng.random(len(a)) < FALSE
        b = b.copy()
        b[wrong] = rng.integers(0, len(xy[j]), int(wrong.sum()))
        _, first = np.unique(b, return_index=True)
        matches[i, j] = np.stack([a, b], 1)[np.sort(first)].astype(np.int32)
    guess = Camera.simple(LENS.width, LENS.height, 900.0)
    scale = [np.full(len(p), 4.0, np.float32) for p in xy]
    return AlignInput(xy, scale, matches, np.zeros(photos, np.int64), [guess], [False]), centers


def main() -> None:
    """Print a line for each number of photos."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--photos", type=int, nargs="+", default=[24, 48, 96, 192, 384])
    parser.add_argument("--places", type=int, default=3000)
    parser.add_argument("--profile", action="store_true")
    args = parser.parse_args()
    align(made_up(12, 300)[0])  # compiles the kernels
    before = None
    for photos in args.photos:
        data, true = made_up(photos, args.places)
        profile = cProfile.Profile()
        start = time.perf_counter()
        if args.profile:
            profile.enable()
        model = align(data)
        profile.disable()
        spent = time.perf_counter() - start
        placed = int(model.placed.sum()) if isinstance(model, Model) else 0
        off = np.nan
        if isinstance(model, Model) and placed >= 3:
            at = np.flatnonzero(model.placed)
            moved = fit_similarity(model.centers[at], true[at]).points(model.centers[at])
            off = float(np.median(np.linalg.norm(moved - true[at], axis=1)) / 2.2 * 100)
        grown = (
            "" if before is None else f"; grows as photos^{np.log(spent / before[1]) / np.log(photos / before[0]):.2f}"
        )
        print(f"{photos} photos: {placed} placed, {spent:.1f} s, centres {off:.4f} % off{grown}", flush=True)
        before = (photos, spent)
    if args.profile:
        pstats.Stats(profile).sort_stats("cumulative").print_stats(45)


if __name__ == "__main__":
    main()
