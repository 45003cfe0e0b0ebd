"""Unit: which faces of a surface a photo looks through, and which it looks at."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.surface.sight import sight
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.units.depth import load_depth

#: middles and normals of the faces that are asked about
FACES_FILE = "asked-faces.npz"


def sight_of_photo(points: str, folder: str, row: int, masked: bool) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
    """Through and at which of the faces kept in ``folder`` a photo looks (packed bits), by its depth map of a version of Points."""
    solution = load_solution(Path(points))
    depth = load_depth(Path(points), row, packed=True)
    high, wide = depth.depth.shape
    with np.load(Path(folder) / FACES_FILE) as f:
        middles, normals = f["middles"].astype(np.float64), f["normals"].astype(np.float64)
    camera = solution.lens(row).scaled(wide, high).pinhole()
    through, looks = sight(middles, normals, depth, camera, solution.rotations[row], solution.centers[row], masked)
    return np.packbits(through), np.packbits(looks)
