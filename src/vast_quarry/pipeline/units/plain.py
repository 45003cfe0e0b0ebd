"""Units of depth where windows say little: swept depths of each photo, and what they add to what photos agree about."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense import fusion
from vast_quarry.core.dense.patchmatch import DepthMap
from vast_quarry.core.dense.sources import View
from vast_quarry.core.dense.sweep import SweepSettings, enlarged, slope_normals, sweep_depth
from vast_quarry.core.dense.views import box_bounds
from vast_quarry.core.formats.atomic import is_whole, write_arrays
from vast_quarry.pipeline.solution import Solution, load_solution
from vast_quarry.pipeline.units.flat import dense_camera, flat_file, pose_of, unit_file

#: swept maps are this share of the depth maps' sides, but no smaller than so many pixels (longer side)
SHARE, SMALLEST = 0.5, 320
SWEEP = SweepSettings(step=0.7, least=32, most=96)
#: swept depths agree within this share of depth, and so many pixels; greatest cost: where windows say nothing it is about 1
AGREES, WAY_BACK, MOST_COST = 0.005, 1.5, 1.3
#: their error: so many pixels of the depth map more than is stated of them; and they give way to others of the same spot
COARSER, STANDS_BACK = 0.5, 80


def swept_scale(solution: Solution, row: int, scale: float) -> float:
    """Scale of the swept map of a photo, as a share of the photo."""
    lens = solution.lens(row)
    longest = max(lens.width, lens.height)
    return min(scale, max(SHARE * scale, SMALLEST / longest))


def _view(folder: Path, solution: Solution, row: int, scale: float) -> View:
    with np.load(flat_file(folder, row)) as f:
        gray = f["gray"]
    camera = dense_camera(solution, row, swept_scale(solution, row, scale)).pinhole()
    if gray.shape != (camera.height, camera.width):
        gray = cv2.resize(gray, (camera.width, camera.height), interpolation=cv2.INTER_AREA)
    return View(gray, camera, solution.rotations[row], solution.centers[row])


def sweep_of_photo(cameras: str, folder: str, row: int, sources: list[int], scales: dict[int, float]) -> None:
    """Sweep the depths of one photo within the keep box, and save them."""
    root = Path(folder)
    target = unit_file(root, "swept", row)
    if is_whole(target):
        return
    cv2.setNumThreads(1)
    solution = load_solution(Path(cameras))
    view = _view(root, solution, row, scales[row])
    near, far, hit = box_bounds(
        solution.box, view.camera, view.rotation, view.center, 0.01 * float(solution.box.size.max())
    )
    with np.load(flat_file(root, row)) as f:
        keep = f["keep"].astype(np.uint8)
    size = (view.camera.width, view.camera.height)
    active = hit & (cv2.resize(keep, size, interpolation=cv2.INTER_NEAREST) > 0)
    empty = np.zeros(view.gray.shape, np.float32)
    depth, cost = empty, empty + 2
    if active.any() and sources:
        # what lies just behind the box is looked for too: where it may not be found it is put into the box
        first, last = float(near[active].min()), 1.15 * float(far[active].max())
        found = sweep_depth(view, [_view(root, solution, s, scales[s]) for s in sources], first, last, active, SWEEP)
        depth, cost = found.depth, found.cost
    write_arrays(target, depth=depth, cost=cost)


def load_swept(folder: Path, row: int, camera: Camera, rotation: NDArray[np.float64]) -> DepthMap | None:
    """A swept map as large as the depth map of a camera; None where none was made."""
    file = unit_file(folder, "swept", row)
    if not file.exists():
        return None
    with np.load(file) as f:
        depth, cost = f["depth"], f["cost"]
    shape = (camera.height, camera.width)
    depth = enlarged(depth, shape)
    cost = cv2.resize(cost, shape[::-1], interpolation=cv2.INTER_NEAREST)
    return DepthMap(depth, slope_normals(depth, camera, rotation), np.where(depth > 0, cost, 2).astype(np.float32))


def completed(
    folder: Path, solution: Solution, row: int, sources: list[int], scales: dict[int, float], least: int,
    found: fusion.Accepted, depth: NDArray[np.float32],
) -> tuple[fusion.Accepted, NDArray[np.float32]]:  # fmt: skip
    """What a photo accepted, and its depth map, completed by swept depths that others agree about."""
    pose = pose_of(solution, row, scales[row])
    mine = load_swept(folder, row, pose[0], pose[1])
    if mine is None:
        return found, depth
    taken = found.views > 0
    poses = {s: pose_of(solution, s, scales[s]) for s in sources}
    others = ((load_swept(folder, s, poses[s][0], poses[s][1]), poses[s]) for s in sources)
    beside = ((d, p) for d, p in others if d is not None)
    swept = fusion.accept(mine, pose, beside, least, WAY_BACK, AGREES, MOST_COST)
    new = (swept.views > 0) & ~taken
    if not new.any():
        return found, depth
    found.points[new], found.normals[new], found.views[new] = swept.points[new], swept.normals[new], swept.views[new]
    found.filled[new] = True
    found.rank[new] = swept.rank[new] - STANDS_BACK
    gsd = mine.depth[new] / pose[0].fx
    found.sigma[new] = np.hypot(swept.sigma[new], COARSER * gsd)
    return found, np.where(new, mine.depth, depth)
