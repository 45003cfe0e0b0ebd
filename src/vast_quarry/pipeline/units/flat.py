"""Where the units of Points keep their files, and the cameras of depth maps."""

from __future__ import annotations

from pathlib import Path

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense.fusion import Pose
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
