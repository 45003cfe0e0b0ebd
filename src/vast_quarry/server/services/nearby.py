"""More points of a large cloud where the page looks: kept on disk in an order from which few have to be read."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, Field

from vast_quarry.core.dense.nearby import Runs, first_of_runs, in_runs
from vast_quarry.core.formats.atomic import atomic_write, write_arrays
from vast_quarry.pipeline.clearing import Matrix
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.server.services.folders import Folders
from vast_quarry.server.services.layers import version_of
from vast_quarry.server.services.sizes import trim_cache

#: what the page draws of a point, as it lies on disk
POINT = np.dtype(
    [
        ("at", "<f4", 3),
        ("color", "u1", 3),
        ("views", "u1"),
        ("gsd", "<f4"),
        ("sigma", "<f4"),
        ("facing", "i1", 3),
        ("photo", "<i2"),
    ]
)


class LookIn(BaseModel):
    """From where one looks."""

    matrix: Matrix
    height: float = Field(gt=0, le=20_000, description="Of the screen in pixels")
    budget: int = Field(1_500_000, ge=100, le=5_000_000)


def _made(folders: Folders, number: int | None) -> tuple[Path, Path]:
    """Files of a version's points run after run and of the boxes of the runs, made once."""
    version = version_of(folders, "points", number)
    points, runs = (folders.cache / f"nearby2-{version.key}.{end}" for end in ("npy", "npz"))
    if points.exists() and runs.exists():
        return points, runs
    cloud = load_cloud(folders.store.folder(version))
    order, boxes = in_runs(cloud.points)
    packed = np.empty(len(order), POINT)
    packed["at"], packed["color"] = cloud.points[order], cloud.colors[order]
    packed["views"] = np.clip(cloud.views[order], 0, 255)
    packed["gsd"], packed["sigma"] = cloud.gsd[order], (cloud.sigma / cloud.gsd)[order]
    packed["facing"] = np.round(127 * np.asarray(cloud.normals[order], float)).clip(-127, 127)
    packed["photo"] = cloud.photo[order]
    folders.make()
    trim_cache(folders)
    with atomic_write(points) as out:
        np.save(out, packed)
    write_arrays(runs, low=boxes.low, high=boxes.high, count=boxes.count, spacing=float(np.median(cloud.gsd)))
    return points, runs


@lru_cache(2)
def _runs(file: Path) -> tuple[Runs, float]:
    with np.load(file) as f:
        return Runs(f["low"], f["high"], int(f["count"])), float(f["spacing"])


def make_ready(folders: Folders) -> None:
    """Put the points of the version in use in order, so that nobody waits for it."""
    _made(folders, None)


def points_in_view(folders: Folders, number: int | None, look: LookIn) -> bytes:
    """A cloud, as the page reads it, of what is worth drawing from there."""
    file, boxes = _made(folders, number)
    runs, spacing = _runs(boxes)
    parts = runs.parts(np.reshape(look.matrix, (4, 4)), look.height, spacing, look.budget)
    every: NDArray = np.load(file, mmap_mode="r")
    picked = every[first_of_runs(parts)]
    names = ("at", "color", "views", "gsd", "sigma", "facing", "photo")
    return np.uint32(len(picked)).tobytes() + b"".join(np.ascontiguousarray(picked[n]).tobytes() for n in names)
