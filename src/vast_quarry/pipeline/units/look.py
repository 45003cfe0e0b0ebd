"""Units of a coarse look at everything that the cameras see: small undistorted photos, swept depths, what photos agree about."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera, undistort_maps
from vast_quarry.core.dense import fusion
from vast_quarry.core.dense.patchmatch import DepthMap
from vast_quarry.core.dense.sources import View
from vast_quarry.core.dense.sweep import SweepSettings, sweep_depth
from vast_quarry.core.formats.atomic import is_whole, write_arrays
from vast_quarry.core.mask.files import mask_at
from vast_quarry.core.photo.reading import load_small, scaled_size
from vast_quarry.pipeline.steps.masks import load_mask

#: lens, rotation (3, 3) and centre (3,) of a photo
Pose = tuple[Camera, NDArray[np.float64], NDArray[np.float64]]
#: depths are swept a pixel apart or a little more; coarse depths agree within this share, and pixels
SWEEP = SweepSettings(step=1.2, least=24, most=48)
AGREES, WAY_BACK, MOST_COST = 0.012, 1.5, 1.2


def _file(folder: str, kind: str, row: int) -> Path:
    return Path(folder) / f"{kind}-{row:05d}.npz"


def small_photo(folder: str, row: int, photo: str, mask: str | None, lens: Camera, side: int) -> Camera:
    """Save a photo small and undistorted, with what its mask keeps; the lens of that comes back."""
    cv2.setNumThreads(1)
    target = _file(folder, "small", row)
    scale = min(1.0, side / max(lens.width, lens.height))
    camera = lens.scaled(*scaled_size(lens.width, lens.height, scale))
    if is_whole(target):
        return camera.pinhole()
    rgb = load_small(Path(photo), side)
    if rgb.shape[:2] != (camera.height, camera.width):
        rgb = cv2.resize(rgb, (camera.width, camera.height), interpolation=cv2.INTER_AREA)
    maps = undistort_maps(camera, camera.pinhole())
    gray = cv2.remap(cv2.cvtColor(rgb, cv2.COLOR_RGB2GRAY), *maps, cv2.INTER_LINEAR)
    keep = (maps[0] >= 0) & (maps[1] >= 0) & (maps[0] <= camera.width - 1) & (maps[1] <= camera.height - 1)
    kept = load_mask(mask)
    if kept is not None:
        keep &= cv2.remap(mask_at(kept, camera.width, camera.height).astype(np.uint8), *maps, cv2.INTER_NEAREST) > 0
    write_arrays(target, gray=gray, keep=keep)
    return camera.pinhole()


def _view(folder: str, row: int, pose: Pose) -> View:
    with np.load(_file(folder, "small", row)) as f:
        return View(f["gray"], *pose)


def look_depth(folder: str, row: int, poses: dict[int, Pose], sources: list[int], near: float, far: float) -> None:
    """Sweep depths of one small photo."""
    target = _file(folder, "depth", row)
    if is_whole(target):
        return
    with np.load(_file(folder, "small", row)) as f:
        keep = f["keep"]
    views = [_view(folder, s, poses[s]) for s in sources]
    d = sweep_depth(_view(folder, row, poses[row]), views, near, far, keep, SWEEP)
    write_arrays(target, depth=d.depth, normal=np.round(127 * d.normal).astype(np.int8), cost=d.cost)


def _depth(folder: str, row: int) -> DepthMap:
    with np.load(_file(folder, "depth", row)) as f:
        return DepthMap(f["depth"], f["normal"], f["cost"])


def look_agreed(
    folder: str, row: int, poses: dict[int, Pose], others: list[int], least: int
) -> tuple[NDArray[np.float32], NDArray[np.uint8]]:
    """Points (N, 3) of one small photo that others agree about, and how many photos do (N,)."""
    mine = _depth(folder, row)
    mine = DepthMap(mine.depth, (mine.normal / np.float32(127)).astype(np.float32), mine.cost)
    beside = ((_depth(folder, s), poses[s]) for s in others)
    found = fusion.accept(mine, poses[row], beside, least, WAY_BACK, AGREES, MOST_COST)
    there = found.views > 0
    return found.points[there], found.views[there]
