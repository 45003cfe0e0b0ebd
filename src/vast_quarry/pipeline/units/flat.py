"""Where the units of Points keep their files, and the cameras of depth maps."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense.fusion import Accepted, Pose
from vast_quarry.core.photo.reading import scaled_size
from vast_quarry.pipeline.solution import Solution


def unit_file(folder: Path, kind: str, row: int) -> Path:
    """What one unit wrote of a photo."""
    return folder / kind / f"{row:05d}.npz"


def flat_file(folder: Path, row: int) -> Path:
    """A photo undistorted, at the size of its depth map."""
    return unit_file(folder, "flat", row)


def dense_camera(solution: Solution, row: int, scale: float) -> Camera:
    """The photo's lens at the size of the depth maps, with its distortion."""
    lens = solution.lens(row)
    return lens.scaled(*scaled_size(lens.width, lens.height, scale))


def pose_of(solution: Solution, row: int, scale: float) -> Pose:
    """Lens without distortion, rotation and centre of a depth map."""
    return dense_camera(solution, row, scale).pinhole(), solution.rotations[row], solution.centers[row]


def accepted_file(folder: Path, row: int, completed: bool = False) -> Path:
    """What a photo accepted; ``completed`` by what was filled in."""
    return unit_file(folder, "completed" if completed else "accepted", row)


def load_accepted(folder: Path, row: int) -> tuple[Accepted, NDArray[np.float32]]:
    """What a photo accepted, completed where it was, and the depths (H, W) that this is of."""
    file = accepted_file(folder, row, completed=True)
    with np.load(file if file.exists() else accepted_file(folder, row)) as f:
        parts = {name: f[name] for name in f.files}
    depth = parts.pop("depth")
    return Accepted(**parts), depth
