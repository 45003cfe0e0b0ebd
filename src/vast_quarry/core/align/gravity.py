"""Which way is up, where nobody says it: every way that anything speaks for is weighed by all that can be known of it.

Four witnesses speak. Photos are *held* level or upright, seldom otherwise (a phone forgets its tag now and then, a camera on
a boom hangs upside down: what most photos say may be wrong by a quarter or a half turn). Cameras stand in *laps* at one
height. The *ground* lies under all cameras and has next to nothing beneath it. And cameras look *down* more often than up.
None is always right, so the ways that any of them proposes are weighed by all four (common practice, no source); the weights
are such that ground and laps together outweigh how photos were held.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.upright import ground_plane, up_from_laps, up_from_level_photos

Array = NDArray[np.float64]

#: what each witness weighs at most
HELD, LAPS, GROUND, DOWN = 1.0, 1.0, 1.5, 0.5
#: what a photo weighs that is held upright, or upside down, without saying so, beside one that is held level
UPRIGHT, UPSIDE_DOWN = 0.75, 0.5
#: an axis of a photo is level within this (sine); share of the points on a ground that is ample
LEVEL, AMPLE = float(np.sin(np.radians(15))), 0.25
#: a ground that leans this far (radians) from a way says nothing for it, and how much it has to say to be one
LEANING, WORTH = float(np.radians(25)), 0.35
#: ways closer than this are one (cosine)
SAME = float(np.cos(np.radians(12)))
#: what the best way has to be ahead of all others to be sure, and to be likely
SURE, LIKELY, ABOUT_EQUAL = 0.8, 0.3, 0.15
#: fewest photos of which laps and how they are held are told
FEWEST = 8

Sureness = Literal["sure", "likely", "a guess"]


@dataclass
class Up:
    """Which way is up (3,), what says so, how sure that is, and the ground: its normal, offset and roughness, if there is one."""

    direction: Array
    witness: str
    sure: Sureness
    ground: tuple[Array, float, float] | None
    weight: float


def find_up(rotations: Array, centers: Array, points: Array, with_ground: bool = True, with_laps: bool = True) -> Up:
    """The way up that most speaks for.

    Parameters
    ----------
    rotations : (n, 3, 3), centers : (n, 3)
        Placed cameras.
    points : (N, 3)
        Well seen points.
    with_ground, with_laps : bool
        Whether there may be a ground among the points, and whether cameras stand in laps about something.
    """
    ways: list[Array] = []
    level = up_from_level_photos(rotations)
    laps = with_laps and len(centers) >= FEWEST
    proposed = [level, -level]
    if len(centers) >= FEWEST:
        held = up_from_mixed_photos(rotations)
        proposed += [held, -held]
        lap = lap_normal(centers) if laps else None
        proposed += [lap, -lap] if lap is not None else []
    for way in proposed:
        if not any(way @ other > SAME for other in ways):
            ways.append(way)
    weighed = [_weighed(way, rotations, centers, points, with_ground, laps) for way in ways]
    best = max(weighed, key=lambda u: u.weight)
    # of those that are about equal the one that most photos say, which comes first
    if best.weight - weighed[0].weight < ABOUT_EQUAL:
        best = weighed[0]
    rivals = [u.weight for u in weighed if u.direction @ best.direction < SAME]
    ahead = best.weight - max(rivals, default=0.0)
    best.sure = "sure" if ahead >= SURE else "likely" if ahead >= LIKELY else "a guess"
    return best


def _weighed(way: Array, rotations: Array, centers: Array, points: Array, with_ground: bool, with_laps: bool) -> Up:
    """A way up, made more exact by laps and ground where they are near it, with what speaks for it."""
    witness, weight = "level photos", 0.0
    lap = up_from_laps(centers, way) if with_laps else None
    if lap is not None:
        way, witness, weight = lap, "camera laps", LAPS
    plane = ground_plane(points, centers, way) if with_ground else None
    if plane is not None:
        on = np.abs(points @ plane[0] - plane[1]) < max(3 * plane[2], 1e-9)
        tilt = float(np.arccos(np.clip(plane[0] @ way, -1, 1)))
        # a side of the subject may pass for a ground that leans far
        ground = min(1.0, float(on.mean()) / AMPLE) * max(0.0, 1 - tilt / LEANING)
        if ground < WORTH:
            plane = None
        else:
            way, witness = plane[0], "ground plane"
            weight += GROUND * ground
    weight += HELD * float(_held(rotations, way).mean())
    weight += DOWN * float((rotations[:, 2] @ way < 0).mean())
    return Up(way, witness, "a guess", plane, weight)


def _held(rotations: Array, up: Array) -> Array:
    """How much each photo (n,) speaks for a way up by how it is held."""
    across, down = rotations[:, 0] @ up, rotations[:, 1] @ up
    level = np.abs(across) < LEVEL
    upright = (np.abs(down) < LEVEL) & ~level
    return np.where(level, np.where(down <= 0, 1.0, UPSIDE_DOWN), np.where(upright, UPRIGHT, 0.0))


def up_from_mixed_photos(rotations: Array, tries: int = 400, seed: int = 0) -> Array:
    """Direction to which of most photos (n, 3, 3) one side is perpendicular: some held level, others upright without a tag."""
    rng = np.random.default_rng(seed)
    sides = rotations[:, :2]
    best, most = up_from_level_photos(rotations), -1.0
    for i, j, k, m in zip(*rng.integers(0, len(rotations), (2, tries)), *rng.integers(0, 2, (2, tries))):
        way = np.cross(sides[i, k], sides[j, m])
        length = np.linalg.norm(way)
        if length < LEVEL:
            continue
        way /= length
        off = np.abs(sides @ way).min(1)
        score = float((off < LEVEL).mean()) - float(np.minimum(off, LEVEL).mean())
        if score > most:
            best, most = way, score
    # again by all that agree, each by its level side
    for _ in range(3):
        side = np.abs(sides @ best).argmin(1)
        flat = sides[np.arange(len(sides)), side]
        flat = flat[np.abs(flat @ best) < LEVEL]
        if len(flat) < 3:
            break
        values, vectors = np.linalg.eigh(flat.T @ flat)
        if values[1] < 0.02 * values[2]:  # all beside each other: any way perpendicular to them would do
            break
        best = vectors[:, 0] * np.sign(vectors[:, 0] @ best)
    tops = -sides[:, 1] @ best
    return np.asarray(best if tops.sum() >= 0 else -best)


def lap_normal(centers: Array, tries: int = 300, seed: int = 0) -> Array | None:
    """Normal of the plane that most cameras (n, 3) share, whichever way it lies; None where no six share one."""
    rng = np.random.default_rng(seed)
    spread = float(np.linalg.norm(centers - centers.mean(0), axis=1).max())
    best, most = None, 5
    for _ in range(tries):
        a, b, c = centers[rng.choice(len(centers), 3, replace=False)]
        normal = np.cross(b - a, c - a)
        length = np.linalg.norm(normal)
        if length < 0.05 * spread**2:
            continue
        normal /= length
        on = int((np.abs((centers - a) @ normal) < 0.03 * spread).sum())
        if on > most:
            best, most = normal, on
    return best
