"""Units of the Points step: undistorted photos, depth maps, fusion."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np
from numpy.lib.npyio import NpzFile
from numpy.typing import NDArray

from vast_quarry.core.box import KeepBox
from vast_quarry.core.camera import project, undistort_maps
from vast_quarry.core.dense import fusion
from vast_quarry.core.dense.patchmatch import DepthMap, PatchMatchSettings, estimate_depth
from vast_quarry.core.dense.sources import View
from vast_quarry.core.dense.views import box_bounds
from vast_quarry.core.formats.atomic import atomic_write, is_whole, write_arrays
from vast_quarry.core.mask.files import mask_at
from vast_quarry.core.photo.reading import load_rgb, resized
from vast_quarry.core.photo.tone import Tone, apply_tone
from vast_quarry.pipeline.solution import Solution, load_solution
from vast_quarry.pipeline.steps.masks import load_mask
from vast_quarry.pipeline.units.flat import dense_camera, load_accepted, pose_of, unit_file

#: how far what stands behind the keep box is looked for, in parts of the depth of nearly all that the photo is tied by. It is not
#: wanted, but where it may not be found pixels beside the subject take the subject's depth: a fringe in its colour
BEHIND = 1.2
#: and how near nothing is looked for, in parts of the depth of the nearest of it, from inside the keep box
BEFORE = 0.6
#: photos that are larger than the depth maps by less than this do not make them finer
WORTH_FINER = 1.25


def flatten_photo(
    cameras: str,
    folder: str,
    row: int,
    photo: str,
    mask: str | None,
    scale: float,
    tone: dict[str, float] | None = None,
) -> None:
    """Save a photo undistorted, at the size of the depth maps, with its mask; and larger, if it is, without colours."""
    target = unit_file(Path(folder), "flat", row)
    if is_whole(target):
        return
    solution = load_solution(Path(cameras))
    camera = dense_camera(solution, row, scale)
    whole = load_rgb(Path(photo))
    map_x, map_y = undistort_maps(camera, camera.pinhole())
    flat = _flattened(resized(whole, scale), tone, map_x, map_y)
    inside = (map_x >= 0) & (map_y >= 0) & (map_x <= camera.width - 1) & (map_y <= camera.height - 1)
    kept = load_mask(mask)
    if kept is not None:
        small = mask_at(kept, camera.width, camera.height).astype(np.uint8)
        inside &= cv2.remap(small, map_x, map_y, cv2.INTER_NEAREST) > 0
    gray = cv2.cvtColor(flat, cv2.COLOR_RGB2GRAY)
    fine = np.zeros((0, 0), np.uint8)
    if finer_scale(scale) > scale:
        larger = dense_camera(solution, row, finer_scale(scale))
        maps = undistort_maps(larger, larger.pinhole())
        fine = cv2.cvtColor(_flattened(resized(whole, finer_scale(scale)), tone, *maps), cv2.COLOR_RGB2GRAY)
    write_arrays(target, rgb=flat, gray=gray, keep=inside, masked=kept is not None, fine=fine)


def _flattened(
    rgb: NDArray[np.uint8], tone: dict[str, float] | None, map_x: NDArray[np.float32], map_y: NDArray[np.float32]
) -> NDArray[np.uint8]:
    evened = apply_tone(rgb, Tone.from_dict(tone))
    return np.asarray(cv2.remap(evened, map_x, map_y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_CONSTANT), np.uint8)


def finer_scale(scale: float) -> float:
    """Scale of the photos that move the planes of depth maps of ``scale``: twice it as far as they go, or the same where that is
    hardly more."""
    finer = min(1.0, 2 * scale)
    return finer if finer > WORTH_FINER * scale else scale


def _view(folder: Path, solution: Solution, row: int, scale: float, name: str = "gray") -> View:
    with np.load(unit_file(folder, "flat", row)) as f:
        gray = f[name]
    camera = dense_camera(solution, row, scale).pinhole()
    return View(gray, camera, solution.rotations[row], solution.centers[row])


def depth_of_photo(
    cameras: str, folder: str, row: int, sources: list[int], scales: dict[int, float], keep: int, sweeps: list[int]
) -> None:
    """Compute and save the depth map of one photo."""
    target = unit_file(Path(folder), "depth", row)
    if is_whole(target):
        return
    solution = load_solution(Path(cameras))
    view = _view(Path(folder), solution, row, scales[row])
    seeds = _seeds(solution, row, view)
    with np.load(unit_file(Path(folder), "flat", row)) as f:
        keep_pixels, masked = f["keep"], bool(f["masked"])
    near, far, hit = depth_range(solution.box, view, seeds[1], masked)
    active = hit & keep_pixels
    if not active.any() or not sources:
        shape = view.gray.shape
        empty = np.zeros(shape, np.float32)
        _save_depth(target, DepthMap(empty, np.zeros((*shape, 3), np.float32), empty + 2))
        return
    settings = PatchMatchSettings(keep=keep, sweeps=tuple(sweeps), seed=row + 1)
    # a photo so small that it is not made smaller for its depth has nothing finer
    finer = [(r, finer_scale(scales[r])) for r in (row, *sources)]

    def larger() -> tuple[View, Iterator[View]]:
        """The photo and the others as large as they go, one after the other."""
        fine = (_view(Path(folder), solution, r, s, "fine" if s > scales[r] else "gray") for r, s in finer)
        return next(fine), fine

    # the others are held by nobody else, so that they can be let go when the larger ones come
    found = estimate_depth(
        view,
        [_view(Path(folder), solution, s, scales[s]) for s in sources],
        near,
        far,
        active,
        settings,
        seeds,
        larger=larger if finer[0][1] > scales[row] else None,
    )
    _save_depth(target, found)


def depth_range(
    box: KeepBox, view: View, tied: NDArray[np.float64], masked: bool
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.bool_]]:
    """Depths between which those of a photo are looked for, and the pixels that see the keep box (H, W each).

    Parameters
    ----------
    box : KeepBox
    view : View
    tied : (K,) float
        Depths of the points by which the photo is tied.
    masked : bool
        Whether its mask says what beside the subject does not count.
    """
    near, far, hit = box_bounds(box, view.camera, view.rotation, view.center, 0.01 * float(box.size.max()))
    if len(tied):
        nearest = np.float32(BEFORE * np.quantile(tied, 0.02))
        if box.inside(view.center[None])[0]:
            # it begins at the lens: nearly all that is guessed at first would lie before all that is there
            near = np.maximum(near, np.minimum(nearest, far / 2))
        if not masked:
            far = np.maximum(far, np.float32(BEHIND * np.quantile(tied, 0.95)))
    return near, far, hit


def _seeds(solution: Solution, row: int, view: View) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    point_of = np.repeat(np.arange(len(solution.points)), np.diff(solution.start))
    mine = solution.points[point_of[solution.photo == row]]
    pixels, depth = project(view.camera, view.rotation, view.center, mine)
    return pixels[depth > 0], depth[depth > 0]


def _save_depth(target: Path, d: DepthMap) -> None:
    """A depth map, packed: inverse depth in 65,535 steps (finer than a hundredth of a pixel of disparity), normals and costs in 127
    to the unit."""
    known = d.depth > 0
    w = np.where(known, 1.0 / np.where(known, d.depth, 1.0), 0.0)
    low, high = (float(w[known].min()), float(w[known].max())) if known.any() else (0.0, 1.0)
    step = max(high - low, 1e-12) / 65534
    packed = np.where(known, 1 + np.round((w - low) / step), 0).astype(np.uint16)
    with atomic_write(target) as out:
        np.savez_compressed(
            out, inverse=packed, low=low, step=step, normal=np.round(127 * d.normal).astype(np.int8),  # type: ignore[arg-type]
            cost=np.round(127 * d.cost.clip(0, 2)).astype(np.uint8),
        )  # fmt: skip


def load_depth(folder: Path, row: int, packed: bool = False) -> DepthMap:
    """A saved depth map; with its normals as they are saved, if they are to stay ``packed``."""
    with np.load(unit_file(folder, "depth", row)) as f:
        depth = _depths(f)
        if "depth" in f.files:
            return DepthMap(depth, f["normal"].astype(np.float32), f["cost"].astype(np.float32))
        normal = f["normal"] if packed else f["normal"].astype(np.float32) / 127
        return DepthMap(depth, normal, f["cost"].astype(np.float32) / 127)


def load_depths(folder: Path, row: int) -> NDArray[np.float32]:
    """The depths (H, W) of a saved depth map alone."""
    with np.load(unit_file(folder, "depth", row)) as f:
        return _depths(f)


def _depths(f: NpzFile) -> NDArray[np.float32]:
    if "depth" in f.files:  # of an earlier version of the program
        return np.asarray(f["depth"], np.float32)
    steps = f["inverse"]
    w = np.float32(f["low"]) + (steps.astype(np.float32) - 1) * np.float32(f["step"])
    return np.where(steps > 0, 1 / np.maximum(w, np.float32(1e-12)), 0)


def accept(cameras: str, folder: str, row: int, sources: list[int], scales: dict[int, float], least: int) -> None:
    """Save which pixels of one photo enough others agree about."""
    target = unit_file(Path(folder), "accepted", row)
    if is_whole(target):
        return
    solution, root = load_solution(Path(cameras)), Path(folder)
    others = ((load_depth(root, s, packed=True), pose_of(solution, s, scales[s])) for s in sources)
    mine = load_depth(root, row)
    found = fusion.accept(mine, pose_of(solution, row, scales[row]), others, least_views=least)
    write_arrays(target, depth=mine.depth, **vars(found))


def save_cloud(target: Path, cloud: fusion.Cloud) -> None:
    """Write a cloud."""
    write_arrays(target, **vars(cloud))


def read_cloud(file: Path) -> fusion.Cloud:
    """Read a cloud; one of an earlier version states no expected errors."""
    with np.load(file) as f:
        return fusion.Cloud(**{name: f[name] for name in f.files})


def fuse(cameras: str, folder: str, row: int, others: list[int], scales: dict[int, float]) -> int:
    """Save the points that one photo gives to the cloud; their number comes back."""
    target = unit_file(Path(folder), "fused", row)
    if not is_whole(target):
        solution, root = load_solution(Path(cameras)), Path(folder)
        with np.load(unit_file(root, "flat", row)) as f:
            rgb = f["rgb"]
        beside = []
        for s in others:
            theirs, depths = load_accepted(root, s)
            beside.append((s, (theirs.views, theirs.rank), depths, pose_of(solution, s, scales[s])))
        mine, depths = load_accepted(root, row)
        cloud = fusion.give(row, mine, depths, pose_of(solution, row, scales[row]), rgb, beside)
        save_cloud(target, cloud.only(solution.box.inside(cloud.points, 0.01 * float(solution.box.size.max()))))
    with np.load(target) as f:
        return len(f["points"])
