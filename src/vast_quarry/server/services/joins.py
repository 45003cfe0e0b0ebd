"""What holds an alignment together, to be looked at: which photos match which, matches of two, the track of a point."""

from __future__ import annotations

import io
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic import BaseModel

from vast_quarry.core.align.plausible import REACH, STRONG, epipolar_misses
from vast_quarry.core.camera import Camera, undistort, undistort_maps
from vast_quarry.pipeline.apart import load_rgb
from vast_quarry.pipeline.reuse import Matches, all_matches, features_of
from vast_quarry.pipeline.solution import POSED, Solution, load_solution
from vast_quarry.pipeline.steps.photos import PhotoList, read_photo_list
from vast_quarry.server.services.folders import Folders, NotFound, safe_path
from vast_quarry.server.services.layers import version_of

#: matches of two photos that are drawn at most; longer side of a photo that is looked through, in pixels
MOST_DRAWN, THROUGH = 160, 1600


class PairOut(BaseModel):
    """Two photos (rows) that match, by how much, and the share that the alignment agrees with (where both are placed)."""

    a: int
    b: int
    matches: int
    agrees: float | None


class MatchOut(BaseModel):
    """A place in two photos, in pixels, and whether the alignment agrees that it is one."""

    a: tuple[float, float]
    b: tuple[float, float]
    agrees: bool | None


class SeenOut(BaseModel):
    """A point as one photo shows it: pixel, and what it misses the point by."""

    photo: str
    x: float
    y: float
    width: int
    height: int
    error: float


class TrackOut(BaseModel):
    """A point of the sparse cloud: where it lies, how precisely (world units), and all photos that are tied by it."""

    at: tuple[float, float, float]
    sigma: float | None
    seen: list[SeenOut]


@lru_cache(maxsize=4)
def _matches(folder: Path) -> dict[tuple[int, int], Matches]:
    return all_matches(folder)


def _opened(folders: Folders) -> tuple[Path, Solution, PhotoList]:
    version = version_of(folders, "cameras", None)
    folder = folders.store.folder(version)
    listed = read_photo_list(folders.store.folder(version_of(folders, "photos", version.parents.get("photos"))))
    return folder, load_solution(folder), listed


def _agreeing(s: Solution, a: int, b: int, xa: NDArray, xb: NDArray) -> NDArray[np.bool_] | None:
    """Which matches of two photos (rows) lie along their epipolar lines; None where one is not placed."""
    if s.states[a] not in POSED or s.states[b] not in POSED:
        return None
    lenses = (s.lens(a), s.lens(b))
    rays = (undistort(xa.astype(float), lenses[0]), undistort(xb.astype(float), lenses[1]))
    unit = min(1000 * c.fx / max(c.width, c.height) for c in lenses)
    poses = ((s.rotations[a], s.centers[a]), (s.rotations[b], s.centers[b]))
    return np.asarray(epipolar_misses(*poses[0], *poses[1], *rays) * unit < REACH)


def pairs_of(folders: Folders) -> list[PairOut]:
    """All pairs of photos that match."""
    folder, s, _ = _opened(folders)
    row = {int(n): k for k, n in enumerate(s.numbers)}
    xy = _features(folder, s)
    out = []
    for (a, b), m in sorted(_matches(folder).items()):
        if a not in row or b not in row or not len(m):
            continue
        i, j = sorted((row[a], row[b]))
        ours = m if i == row[a] else m[:, ::-1]
        some = ours[:: max(1, len(ours) // 200)]
        agree = _agreeing(s, i, j, xy[i][some[:, 0]], xy[j][some[:, 1]]) if len(m) >= STRONG else None
        share = None if agree is None else round(float(agree.mean()), 3)
        out.append(PairOut(a=i, b=j, matches=len(m), agrees=share))
    return out


def _features(folder: Path, s: Solution) -> dict[int, NDArray[np.float32]]:
    out = {}
    for k, number in enumerate(s.numbers):
        with np.load(features_of(folder, int(number))) as f:
            out[k] = f["xy"]
    return out


def matches_of(folders: Folders, a: int, b: int) -> list[MatchOut]:
    """Matches of two photos (rows), evenly thinned.

    Raises
    ------
    NotFound
        When there are no such photos.
    """
    folder, s, _ = _opened(folders)
    if not (0 <= a < len(s.numbers) and 0 <= b < len(s.numbers)):
        raise NotFound("There is no such photo in the alignment.")
    first, other = int(s.numbers[a]), int(s.numbers[b])
    found = _matches(folder)
    m = (
        found[first, other]
        if (first, other) in found
        else found.get((other, first), np.zeros((0, 2), np.int32))[:, ::-1]
    )
    m = m[:: max(1, -(-len(m) // MOST_DRAWN))]
    if not len(m):
        return []
    xy = _features(folder, s)
    xa, xb = xy[a][m[:, 0]], xy[b][m[:, 1]]
    agree = _agreeing(s, a, b, xa, xb)
    return [
        MatchOut(
            a=(round(float(p[0]), 1), round(float(p[1]), 1)), b=(round(float(q[0]), 1), round(float(q[1]), 1)),
            agrees=None if agree is None else bool(agree[k]),
        )
        for k, (p, q) in enumerate(zip(xa, xb))
    ]  # fmt: skip


def track_near(folders: Folders, at: tuple[float, float, float]) -> TrackOut:
    """The point of the sparse cloud that lies nearest to a place, and its track.

    Raises
    ------
    NotFound
        When there are no points.
    """
    _, s, listed = _opened(folders)
    if not len(s.points):
        raise NotFound("There are no points.")
    return _track(s, listed, int(np.linalg.norm(s.points - np.array(at), axis=1).argmin()))


def track_of(folders: Folders, row: int, pixel: tuple[float, float]) -> TrackOut:
    """The track of the tied feature of a photo that lies nearest to a pixel.

    Raises
    ------
    NotFound
        When the photo has none.
    """
    _, s, listed = _opened(folders)
    mine = np.flatnonzero(s.photo == row)
    if not len(mine):
        raise NotFound("This photo is not placed.")
    nearest = mine[np.linalg.norm(s.xy[mine] - np.array(pixel), axis=1).argmin()]
    return _track(s, listed, int(np.searchsorted(s.start, nearest, side="right") - 1))


def _track(s: Solution, listed: PhotoList, point: int) -> TrackOut:
    path = {p.number: p.path for p in listed.photos}
    seen = []
    for k in range(s.start[point], s.start[point + 1]):
        row = int(s.photo[k])
        lens = s.lens(row)
        seen.append(
            SeenOut(
                photo=path.get(int(s.numbers[row]), "?"), x=float(s.xy[k, 0]), y=float(s.xy[k, 1]),
                width=lens.width, height=lens.height, error=round(float(s.error[k]), 3),
            )
        )  # fmt: skip
    x, y, z = s.points[point].tolist()
    sigma = float(s.sigma[point])
    return TrackOut(at=(x, y, z), sigma=float(f"{sigma:.3g}") if np.isfinite(sigma) else None, seen=seen)


def looked_through(folders: Folders, row: int) -> bytes:
    """A photo as its camera would show it without distortion, the axis in its middle: JPEG, to be laid over the points.

    Raises
    ------
    NotFound
        When there is no such photo, or it has no place.
    """
    _, s, listed = _opened(folders)
    if not 0 <= row < len(s.numbers) or s.states[row] not in POSED:
        raise NotFound("This photo is not placed.")
    lens = s.lens(row)
    path = next(p.path for p in listed.photos if p.number == int(s.numbers[row]))
    scale = min(1.0, THROUGH / max(lens.width, lens.height))
    rgb = load_rgb(safe_path(folders.photos, path), scale)
    small = lens.scaled(rgb.shape[1], rgb.shape[0])
    flat = Camera.simple(small.width, small.height, small.fx)
    shown = cv2.remap(rgb, *undistort_maps(small, flat), interpolation=cv2.INTER_LINEAR)
    out = io.BytesIO()
    Image.fromarray(shown).save(out, "JPEG", quality=88)
    return out.getvalue()
