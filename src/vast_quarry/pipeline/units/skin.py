"""Units of the Surface step: a skin through the points of one slab of the cloud, and what guides slabs where there are no points."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from vast_quarry.core.formats.atomic import is_whole, write_arrays
from vast_quarry.core.surface.decimate import decimate
from vast_quarry.core.surface.mesh import face_normals, sample_faces
from vast_quarry.core.surface.poisson import poisson_surface
from vast_quarry.core.surface.slabs import Slab
from vast_quarry.pipeline.memory import give_back

#: some of the points of the whole cloud; surface through them, where it is far from them
FEW_FILE, GUIDE = "few.npz", "guide.npz"
#: a mesh with more triangles than are wanted, and the same with fewer
MANY_FILE, FEWER_FILE = "many.npz", "fewer.npz"
#: so many spacings from those points
FAR = 3.0

Mesh = tuple[NDArray[np.float64], NDArray[np.int64]]


@contextmanager
def _unheard() -> Iterator[None]:
    """The process's own output goes nowhere: the library remarks on what it mends, from inside. Only for processes that do nothing else."""
    kept = os.dup(1), os.dup(2)
    nowhere = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nowhere, 1)
        os.dup2(nowhere, 2)
        yield
    finally:
        for to, fd in zip((1, 2), kept):
            os.dup2(fd, to)
            os.close(fd)
        os.close(nowhere)


def _skin(points: NDArray, normals: NDArray, cell: float) -> Mesh:
    with _unheard():
        return poisson_surface(points, normals, cell)


def points_file(folder: str, number: int) -> Path:
    """Points and normals of a slab, as the unit reads them."""
    return Path(folder) / f"points-{number:04d}.npz"


def skin_file(folder: str, number: int) -> Path:
    """Where a unit puts the skin of a slab."""
    return Path(folder) / f"skin-{number:04d}.npz"


def guide(folder: str, cell: float) -> None:
    """Write points and normals on a surface through a few points of the whole cloud, as far as it lies far from them.

    Across what nobody saw each slab would go its own way; so all go this way.
    """
    target = Path(folder) / GUIDE
    if is_whole(target):
        return
    with np.load(Path(folder) / FEW_FILE) as f:
        points, normals = f["points"], f["normals"]
    v, f_ = _skin(points, normals, cell)
    distance, _ = cKDTree(points).query(v, k=1, distance_upper_bound=FAR * cell)
    bare = f_[~np.isfinite(distance)[f_].any(1)]
    where, of = sample_faces(v, bare, cell) if len(bare) else (np.zeros((0, 3)), np.zeros(0, np.int64))
    write_arrays(target, points=where, normals=face_normals(v, bare)[of].astype(np.float32))


def skin_of_slab(folder: str, number: int, slab: Slab, cell: float, most: int) -> None:
    """Write the skin of a slab, of ``most`` faces at most; ``cell`` is the width of the finest cells of the octree."""
    target = skin_file(folder, number)
    if is_whole(target):
        return
    with np.load(points_file(folder, number)) as f:
        points, normals = f["points"], f["normals"]
    if (Path(folder) / GUIDE).exists():
        with np.load(Path(folder) / GUIDE) as f:
            here = slab.holds(f["points"])
            points, normals = np.concatenate([points, f["points"][here]]), np.concatenate([normals, f["normals"][here]])
    vertices, faces = decimate(*_skin(points, normals, cell), most)
    write_arrays(target, vertices=vertices, faces=faces.astype(np.int32))
    del points, normals, vertices, faces
    give_back()


def fewer(folder: str, target: int) -> None:
    """Write a mesh of about ``target`` faces."""
    to = Path(folder) / FEWER_FILE
    if is_whole(to):
        return
    with np.load(Path(folder) / MANY_FILE) as f:
        # held by nobody else, so that they can go when the library has its own
        vertices, faces = decimate(f["vertices"], f["faces"], target)
    write_arrays(to, vertices=vertices, faces=faces)
