"""Clouds in open formats: LAS 1.4 and LAZ (ASPRS, by laspy), E57 (ASTM E2807, by pye57), XYZ as text, PLY.

Beside place and colour: how many photos saw a point, its stated error, and whether it was filled in.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_path, atomic_write, no_such_format, told_when_it_fails
from vast_quarry.core.formats.ply import PlyData, write_ply

#: whole numbers of LAS are so many world units: a tenth of a millimetre of a metre's world
_STEP = 1e-5


@dataclass(frozen=True)
class Cloud:
    """Points (N, 3) with colours (N, 3) uint8, normals (N, 3), photos that saw each, its error (world units), and what was filled in."""

    points: NDArray[np.float64]
    colors: NDArray[np.uint8] | None = None
    normals: NDArray[np.float32] | None = None
    views: NDArray | None = None
    sigma: NDArray[np.float32] | None = None
    filled: NDArray | None = None

    def numbers(self) -> dict[str, NDArray[np.float32]]:
        """What there is beside place, normal and colour, by name."""
        found = {"views": self.views, "sigma": self.sigma, "filled": self.filled}
        return {k: np.asarray(v, np.float32) for k, v in found.items() if v is not None}


def _ply(path: Path, cloud: Cloud) -> None:
    write_ply(path, PlyData(cloud.points, cloud.normals, cloud.colors, extra=cloud.numbers()))


def _las(path: Path, cloud: Cloud) -> None:
    import laspy

    header = laspy.LasHeader(point_format=7, version="1.4")
    header.generating_software = "Vast Quarry"
    low, high = cloud.points.min(0), cloud.points.max(0)
    header.offsets = np.floor((low + high) / 2)
    # whole numbers of 32 bits have to hold the farthest
    header.scales = np.maximum(_STEP, (high - low) / 4e9)
    for name in cloud.numbers():
        header.add_extra_dim(laspy.ExtraBytesParams(name=name, type=np.float32, description=_WHAT[name]))
    las = laspy.LasData(header)
    las.x, las.y, las.z = cloud.points.T
    if cloud.colors is not None:
        # 16 bits, as the standard asks for
        las.red, las.green, las.blue = (cloud.colors.astype(np.uint16) * 257).T
    for name, values in cloud.numbers().items():
        las[name] = values
    with atomic_path(path) as part:
        las.write(part)


_WHAT = {"views": "photos that saw it", "sigma": "standard deviation", "filled": "1 where filled in"}


def _e57(path: Path, cloud: Cloud) -> None:
    import pye57

    with atomic_path(path) as part:
        file = pye57.E57(str(part), mode="w")
        data: dict[str, NDArray] = {f"cartesian{axis}": cloud.points[:, k] for k, axis in enumerate("XYZ")}
        if cloud.colors is not None:
            data |= {f"color{name}": cloud.colors[:, k] for k, name in enumerate(("Red", "Green", "Blue"))}
        file.write_scan_raw(data, name="dense cloud", translation=np.zeros(3), rotation=np.array([1.0, 0, 0, 0]))
        file.close()


def _xyz(path: Path, cloud: Cloud) -> None:
    columns, form = [cloud.points], ["%.6f"] * 3
    if cloud.colors is not None:
        columns.append(cloud.colors.astype(float))
        form += ["%d"] * 3
    if cloud.normals is not None:
        columns.append(cloud.normals.astype(float))
        form += ["%.4f"] * 3
    with atomic_write(path) as out:
        np.savetxt(out, np.concatenate(columns, 1), fmt=form)


WRITERS: dict[str, Callable[[Path, Cloud], None]] = {
    ".ply": _ply, ".las": _las, ".laz": _las, ".e57": _e57, ".xyz": _xyz
}  # fmt: skip


def save_cloud(path: Path, cloud: Cloud) -> None:
    """Write a cloud; what its format has no place for is left out.

    Raises
    ------
    PlainError
        When the ending says no format there is, there are no points, or the file cannot be written.
    """
    writer = WRITERS.get(path.suffix.lower())
    if writer is None:
        raise no_such_format(path.suffix or path.name, WRITERS)
    if not len(cloud.points):
        raise PlainError("There are no points to write.", "Run Points first.")
    with told_when_it_fails(path):
        writer(path, cloud)
