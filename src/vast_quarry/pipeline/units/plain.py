"""Units of depth where windows say little: each photo's map completed within its surfaces, and what other photos agree to of that."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.dense import fusion, planes
from vast_quarry.core.dense.filling import filled
from vast_quarry.core.dense.patchmatch import DepthMap
from vast_quarry.core.dense.sweep import slope_normals
from vast_quarry.core.formats.atomic import is_whole, write_arrays
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.units.flat import accepted_file, flat_file, load_accepted, pose_of, unit_file

#: completed depths agree within this share of depth, and so many pixels
AGREES, WAY_BACK = 0.004, 1.2
#: photos beside one that are many
MANY = 6
#: cost of a pixel that was filled in: it counts, but nobody is sure of it
UNSURE = 0.5
#: their error: so many pixels of the depth map more than is stated of them; and they give way to others of the same spot
COARSER, STANDS_BACK = 0.5, 80


def sides_of_photo(cameras: str, folder: str, row: int, scales: dict[int, float]) -> list[planes.Side]:
    """Plain flat sides that one photo finds by itself."""
    cv2.setNumThreads(1)
    depth, known, active, gray = _known(Path(folder), row)
    pose = pose_of(load_solution(Path(cameras)), row, scales[row])
    found = planes.plane_filled(planes.inverse_of(depth, known), known, active, gray)[3]
    return [planes.side_of(plane, at, *pose) for plane, at in found]


def _known(
    folder: Path, row: int
) -> tuple[NDArray[np.float32], NDArray[np.bool_], NDArray[np.bool_], NDArray[np.uint8]]:
    """Depths (H, W) of a photo, which of them others agreed to, which pixels are wanted, and the photo in grey."""
    accepted, depth = load_accepted(folder, row)
    with np.load(flat_file(folder, row)) as f:
        return depth, accepted.views > 0, f["keep"] & (depth > 0), f["gray"]


def fill_photo(cameras: str, folder: str, row: int, scales: dict[int, float], sides: NDArray[np.float64]) -> None:
    """Complete the depth map of one photo from what others agreed to of it, and save it; ``sides`` (K, 4) are planes that
    several photos found."""
    root = Path(folder)
    target = unit_file(root, "filled", row)
    if is_whole(target):
        return
    cv2.setNumThreads(1)
    depth, known, active, gray = _known(root, row)
    camera, rotation, center = pose_of(load_solution(Path(cameras)), row, scales[row])
    seen = [planes.plane_in(s[:3], float(s[3]), camera, rotation, center) for s in sides]
    offered = np.array([p for p in seen if p is not None]).reshape(-1, 3)
    whole, lent = filled(depth, known, active, gray, offered)
    normal = np.round(127 * slope_normals(whole, camera, rotation)).astype(np.int8)
    write_arrays(target, depth=whole, normal=normal, known=known, lent=lent)


def _completed(folder: Path, row: int, own: bool = False) -> tuple[DepthMap, NDArray[np.bool_], NDArray[np.bool_]]:
    """A completed map, its normals packed; which of its pixels (H, W) were known before, and which have a plane that was offered.
    With its ``own`` alone it has no depth for those."""
    with np.load(unit_file(folder, "filled", row)) as f:
        depth, normal, known, lent = f["depth"], f["normal"], f["known"], f["lent"]
    if own:
        depth = np.where(lent, np.float32(0), depth)
    cost = np.where(depth > 0, np.where(known, np.float32(0), np.float32(UNSURE)), np.float32(2))
    return DepthMap(depth, normal, cost), known, lent


def _take(found: fusion.Accepted, other: fusion.Accepted, here: NDArray[np.bool_]) -> None:
    """What another accepted at some pixels, in place."""
    for name in ("points", "normals", "views", "rank", "sigma"):
        getattr(found, name)[here] = getattr(other, name)[here]


def agree_about_filled(
    cameras: str, folder: str, row: int, sources: list[int], scales: dict[int, float], least: int
) -> None:
    """Save what a photo accepted together with what was filled in of it and others agree to."""
    root = Path(folder)
    target = accepted_file(root, row, completed=True)
    if is_whole(target):
        return
    solution = load_solution(Path(cameras))
    found, depth = load_accepted(root, row)
    pose = pose_of(solution, row, scales[row])
    mine, known, lent = _completed(root, row)
    mine.normal = (mine.normal / np.float32(127)).astype(np.float32)
    todo = ~known & (mine.depth > 0)
    new = np.zeros_like(known)
    # that all have a plane that all were offered says nothing: only who found it is asked, and those are few. Of what each carried across
    # by itself one photo more than else has to agree where there are many: it is no measurement
    for wanted, agree in ((todo & ~lent, least + (len(sources) >= MANY)), (todo & lent, max(least - 1, 2))):
        if not wanted.any():
            continue
        others = ((_completed(root, s, own=True)[0], pose_of(solution, s, scales[s])) for s in sources)
        again = fusion.accept(mine, pose, others, agree, WAY_BACK, AGREES, wanted=wanted)
        here = (again.views > 0) & wanted
        _take(found, again, here)
        new |= here
    found.rank[new] -= STANDS_BACK
    found.sigma[new] = np.hypot(found.sigma[new], COARSER * mine.depth[new] / pose[0].fx)
    found.filled[new] = True
    write_arrays(target, depth=np.where(new, mine.depth, depth), **vars(found))
