"""Depth maps to look at: drawn as lit relief over the photo, and read out place by place with why there is none.

A depth map belongs to the photo without its lens's distortion; here it is told in the photo as it was taken.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from vast_quarry.core.camera import Camera, project, undistort
from vast_quarry.core.dense.completing import completed
from vast_quarry.core.dense.fusion import on_one_surface
from vast_quarry.core.photo.quality import dark_map
from vast_quarry.core.words import Said
from vast_quarry.pipeline.apart import load_rgb
from vast_quarry.pipeline.sentence import Sentence
from vast_quarry.pipeline.solution import Solution, load_solution
from vast_quarry.pipeline.steps.masks import load_mask, mask_file
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.pipeline.units.depth import load_depth
from vast_quarry.server.services.folders import Folders, NotFound
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.pictures import as_png

#: where light comes from, seen from the camera (right, down, ahead)
LIGHT = np.array([-0.5, -0.6, -0.62])
#: cost up to which a pixel's depth is handed on to those that have none
SURE = 0.4
#: points of a cloud that are looked at, at most; how much (share) their depth may differ from a map's; and pixels between them
MOST_POINTS, ALIKE, GAP = 2_000_000, 0.01, 7
#: pixels between the lines that hatch what is guessed, and how strong they are
HATCH, FAINT = 7, 130
#: light where nothing is known of the slope
EVEN = 0.73
#: grey that changes by less than this (of 255) over a window of so many pixels gives nothing to compare
FLAT, WINDOW = 2.0, 9


@dataclass
class Seen:
    """A depth map in the photo as it was taken, at the size of the map.

    ``depth`` (H, W), 0 where there is none that is kept, ``lit`` (H, W) 0 to 1; and why there is none: ``outside`` the keep box,
    ``masked``, ``dark``, ``flat`` (H, W) bool. ``around`` (H, W): what the depth would be by what lies on all four sides, 0 where
    that is not known. ``trusted`` (H, W): where the dense cloud has what the map says. ``focal`` is that of the photo in its own
    pixels.
    """

    depth: NDArray[np.float32]
    lit: NDArray[np.float32]
    outside: NDArray[np.bool_]
    masked: NDArray[np.bool_]
    dark: NDArray[np.bool_]
    flat: NDArray[np.bool_]
    around: NDArray[np.float32]
    trusted: NDArray[np.bool_]
    focal: float


def _in_cloud(
    folder: Path, camera: Camera, pose: tuple[NDArray[np.float64], NDArray[np.float64]], depth: NDArray[np.float32]
) -> NDArray[np.bool_]:
    """Pixels of a depth map (H, W) whose depth the dense cloud has too: what photos agreed about."""
    points = load_cloud(folder).points
    points = points[:: max(1, len(points) // MOST_POINTS)]
    pixels, z = project(camera, *pose, points)
    at = np.round(pixels).astype(np.int64)
    ok = (z > 0) & (at >= 0).all(1) & (at < (camera.width, camera.height)).all(1)
    u, v, z = at[ok, 0], at[ok, 1], z[ok]
    near = np.abs(depth[v, u] - z) < ALIKE * z
    found = np.zeros(depth.shape, np.uint8)
    found[v[near], u[near]] = 1
    # points of other photos lie between this one's pixels
    return cv2.morphologyEx(found, cv2.MORPH_CLOSE, np.ones((GAP, GAP), np.uint8)) > 0


def _in_box(solution: Solution, row: int, camera: Camera, depth: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Pixels of a depth map whose points lie in the keep box: what stands behind it is found too, but not wanted."""
    u, v = np.meshgrid(np.arange(camera.width), np.arange(camera.height))
    rays = np.stack([(u - camera.cx) / camera.fx, (v - camera.cy) / camera.fy, np.ones(u.shape)], -1)
    points = solution.centers[row] + (rays * depth[..., None]).reshape(-1, 3) @ solution.rotations[row]
    return solution.box.inside(points, 0.01 * float(solution.box.size.max())).reshape(depth.shape)


def _flat(grey: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Where a picture (H, W) hardly changes over a window."""
    mean = cv2.blur(grey, (WINDOW, WINDOW))
    return np.asarray(cv2.blur(grey * grey, (WINDOW, WINDOW)) - mean * mean < FLAT * FLAT)


def seen(folders: Folders, row: int) -> Seen:
    """The depth map of a photo (row of the alignment) of the version of Points in use.

    Raises
    ------
    NotFound
        When there is none.
    """
    version = version_of(folders, "points", None)
    return _seen(folders.store.root, version.number, version.parents["photos"], version.parents["masks"], row)


@lru_cache(maxsize=4)
def _seen(versions: Path, number: int, photos: int, masks: int, row: int) -> Seen:
    folder = versions / "points" / str(number)
    try:
        found = load_depth(folder, row)
    except OSError as error:
        raise NotFound("There is no depth map for this photo.") from error
    solution = load_solution(folder)
    h, w = found.depth.shape
    lens = solution.lens(row).scaled(w, h)
    flat = lens.pinhole()
    here = found.depth > 0
    on, facing = here, np.full((h, w), EVEN)
    if found.normal.any():  # a project that was packed has none: its maps are coarser than a relief would show
        on = here & on_one_surface(found, (flat, solution.rotations[row], solution.centers[row]))[0]
        facing = np.clip(found.normal @ solution.rotations[row].T @ (LIGHT / np.linalg.norm(LIGHT)), 0, 1)
    inside = _in_box(solution, row, flat, found.depth)
    sure = on & inside & _in_cloud(folder, flat, (solution.rotations[row], solution.centers[row]), found.depth)
    guess, sides = completed(found.depth, on & inside & (found.cost < SURE))
    # each pixel of the photo as it was taken, in the map
    u, v = np.meshgrid(np.arange(w, dtype=float), np.arange(h, dtype=float))
    xy = undistort(np.stack([u, v], -1), lens)
    at = ((xy * [flat.fx, flat.fy]) + [flat.cx, flat.cy]).astype(np.float32)

    def taken(picture: NDArray) -> NDArray:
        return np.asarray(cv2.remap(picture, at[..., 0], at[..., 1], cv2.INTER_NEAREST))

    listed = read_photo_list(versions / "photos" / str(photos))
    photo = next(p for p in listed.photos if p.number == int(solution.numbers[row]))
    rgb = cv2.resize(load_rgb(listed.file(photo), w / photo.width), (w, h), interpolation=cv2.INTER_AREA)
    mask = load_mask(mask_file(versions / "masks" / str(masks), photo.number))
    kept = np.ones((h, w), np.uint8) if mask is None else cv2.resize(mask.astype(np.uint8), (w, h))
    dark = cv2.resize(dark_map(rgb).astype(np.uint8), (w, h), interpolation=cv2.INTER_NEAREST)
    return Seen(
        taken(np.where(on & inside, found.depth, 0).astype(np.float32)), taken(facing.astype(np.float32)),
        taken((on & ~inside).astype(np.uint8)) > 0, kept == 0, dark > 0,
        _flat(cv2.cvtColor(rgb, cv2.COLOR_RGB2GRAY).astype(np.float32)),
        taken(np.where(sides == 4, guess, 0).astype(np.float32)), taken(sure.astype(np.uint8)) > 0, solution.lens(row).fx,
    )  # fmt: skip


def depth_picture(folders: Folders, row: int) -> bytes:
    """A depth map as a PNG to be laid over its photo: near light, far dark, lit from the upper left; clear where there is none.

    What photos did not agree about is a guess, and only hatched.
    """
    s = seen(folders, row)
    known = (s.depth > 0) & s.trusted
    out = np.zeros((*s.depth.shape, 4), np.uint8)
    guessed = (s.depth > 0) & ~s.trusted & (np.add.outer(*map(np.arange, s.depth.shape)) % HATCH == 0)
    out[guessed] = (235, 228, 212, FAINT)
    if known.any():
        low, high = _range(s)
        t = np.clip((high - s.depth) / max(high - low, 1e-9), 0, 1)
        ramp = cv2.applyColorMap((t * 255).astype(np.uint8), cv2.COLORMAP_CIVIDIS)[..., ::-1]
        light = (0.45 + 0.75 * s.lit[..., None]) * ramp
        out[known, :3] = np.clip(light, 0, 255).astype(np.uint8)[known]
        out[known, 3] = 255
    return as_png(out)


def _range(s: Seen) -> tuple[float, float]:
    """Depths between which nearly all lie that photos agreed about."""
    low, high = np.percentile(s.depth[(s.depth > 0) & s.trusted], [1, 99])
    return float(low), float(high)


class DepthRange(BaseModel):
    """Depths at the ends of the scale in which a map is drawn, in the world's unit; none where photos agreed about nothing."""

    near: float | None = None
    far: float | None = None


def depth_range(folders: Folders, row: int) -> DepthRange:
    """The scale of a depth map as it is drawn."""
    s = seen(folders, row)
    if not ((s.depth > 0) & s.trusted).any():
        return DepthRange()
    near, far = _range(s)
    return DepthRange(near=near, far=far)


class DepthAt(BaseModel):
    """The depth at a place of a photo, and how large a pixel of the photo is there, in the world's unit; or why there is none, and
    what it would be by what lies around."""

    depth: float | None = None
    around: float | None = None
    gsd: float | None = None
    why: Sentence | None = None


def depth_at(folders: Folders, row: int, x: float, y: float) -> DepthAt:
    """The depth at a place of a photo, given as shares of its sides."""
    s = seen(folders, row)
    h, w = s.depth.shape
    i, j = int(np.clip(x, 0, 1) * (w - 1) + 0.5), int(np.clip(y, 0, 1) * (h - 1) + 0.5)
    depth = float(s.depth[j, i])
    if depth > 0:
        return DepthAt(depth=depth, gsd=depth / s.focal)
    reasons = (
        (s.masked, Said("No depth: the mask leaves this out.")),
        (s.outside, Said("No depth: this lies outside the keep box.")),
        (s.dark, Said("No depth: too dark here to compare photos.")),
        (s.flat, Said("No depth: too even here to tell one place from the next.")),
    )
    why = next((said for where, said in reasons if where[j, i]), None)
    wanted = not (s.masked[j, i] or s.outside[j, i]) and s.around[j, i] > 0
    return DepthAt(
        why=why or Said("No depth: too few photos saw this alike."),
        around=float(s.around[j, i]) if wanted else None,
    )
