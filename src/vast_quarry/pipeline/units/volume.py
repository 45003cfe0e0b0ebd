"""Units of the Surface step where thin parts are kept: signed distances of some tiles out of the depth maps, and their part of the surface."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import project
from vast_quarry.core.formats.atomic import is_whole, write_arrays
from vast_quarry.core.surface.volume import SIDE, Band, Lattice, Places, Tile, believed
from vast_quarry.pipeline.solution import Solution, load_solution
from vast_quarry.pipeline.units.depth import load_depth

#: the cloud's places as the units read them: only those near their tiles
PLACES = "places.npy"


def tiles_file(folder: str, first: int) -> Path:
    """Where a unit puts what its tiles hold."""
    return Path(folder) / f"tiles-{first:06d}.npz"


def _sees(solution: Solution, row: int, low: NDArray, high: NDArray) -> bool:
    """Whether a camera may see something of a box: one of the corners lies before it, and they are not all off one side of its picture."""
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    lens = solution.lens(row).pinhole()
    seen, depth = project(lens, solution.rotations[row], solution.centers[row], corners)
    if not (depth > 0).all():
        return bool((depth > 0).any())
    size = np.array([lens.width, lens.height])
    return bool(((seen.max(0) >= 0) & (seen.min(0) <= size)).all())


def band_of_tiles(points: str, folder: str, first: int, tiles: list[Tile], lattice: Lattice) -> None:
    """Write the surface within some tiles, in ``tiles-FIRST.npz``: one depth map at a time in memory."""
    target = tiles_file(folder, first)
    if is_whole(target):
        return
    solution = load_solution(Path(points))
    low = np.min([lattice.first(t) for t in tiles], axis=0)
    high = np.max([lattice.first(t) for t in tiles], axis=0) + lattice.cell * SIDE
    margin = 0.25 * SIDE * lattice.cell
    places = np.load(Path(folder) / PLACES, mmap_mode="r")
    near = np.asarray(places[((places > low - margin) & (places < high + margin)).all(1)], float)
    about = Places(near, lattice)
    bands = [Band(tile, lattice, about.about(tile)) for tile in tiles]
    for row in solution.aligned.tolist():
        if not (Path(points) / "depth" / f"{row:05d}.npz").exists() or not _sees(solution, row, low, high):
            continue
        depth = load_depth(Path(points), row)
        camera = solution.lens(row).scaled(depth.depth.shape[1], depth.depth.shape[0]).pinhole()
        pose = camera, solution.rotations[row], solution.centers[row]
        depth = believed(depth, *pose)
        for band in bands:
            band.add(depth, *pose)
    out = {}
    for k, band in enumerate(bands):
        v, f = band.mesh()
        out[f"v{k}"], out[f"f{k}"] = v.astype(np.float32), f.astype(np.int32)
    write_arrays(target, **out)


def load_tiles(folder: str, first: int, tiles: list[Tile]) -> list[tuple[Tile, NDArray, NDArray]]:
    """What a unit wrote."""
    with np.load(tiles_file(folder, first)) as f:
        return [(t, f[f"v{k}"].astype(float), f[f"f{k}"].astype(np.int64)) for k, t in enumerate(tiles)]
