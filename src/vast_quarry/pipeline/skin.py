"""A skin through a cloud: in slabs, as units, where there are many points."""

from __future__ import annotations

import shutil

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.formats.atomic import write_arrays
from vast_quarry.core.surface.slabs import joined_slabs, slabs_of
from vast_quarry.pipeline.step import Context
from vast_quarry.pipeline.units import skin as units

Mesh = tuple[NDArray[np.float64], NDArray[np.int64]]

#: points of one slab at most; up to how many there is only one; cells by which slabs reach into each other
SLAB, ALONE, MARGIN = 500_000, 600_000, 12.0
#: points that show the whole in one
FEW = 60_000
#: bytes that a unit takes for each point, and before any
POINT_BYTES, UNIT_BYTES = 1_600.0, 3e8
#: faces of all slabs together at most
MOST_FACES = 12_000_000


def skin(context: Context, cloud: Cloud, cell: float) -> Mesh:
    """The surface through a cloud, closed where nothing was seen; ``cell`` is its smallest step in world units."""
    folder = context.folder / "slabs"
    folder.mkdir(exist_ok=True)
    here, count, text = str(folder), len(cloud.points), "Surface through the points"
    # two at least where it pays, for two cores; the same on any machine, so that the same comes of it
    pairs = 0 if count <= ALONE else -(-count // (2 * SLAB))
    slabs = slabs_of(cloud.points, count if not pairs else -(-count // (2 * pairs)), MARGIN * cell)
    if len(slabs) > 1:
        step = -(-count // FEW)
        write_arrays(folder / units.FEW_FILE, points=cloud.points[::step], normals=cloud.normals[::step])
        context.each(text, units.guide, [(here, cell * float(np.sqrt(step)))], memory=[UNIT_BYTES + POINT_BYTES * FEW])
    takes = []
    for k, slab in enumerate(slabs):
        mine = slab.holds(cloud.points)
        takes.append(UNIT_BYTES + POINT_BYTES * float(mine.sum()))
        if not units.points_file(here, k).exists():
            write_arrays(units.points_file(here, k), points=cloud.points[mine], normals=cloud.normals[mine])
    jobs = [(here, k, slab, cell, MOST_FACES // len(slabs)) for k, slab in enumerate(slabs)]
    context.each(text, units.skin_of_slab, jobs, memory=takes)
    meshes = []
    for k in range(len(slabs)):
        with np.load(units.skin_file(here, k)) as f:
            meshes.append((f["vertices"], f["faces"].astype(np.int64)))
    shutil.rmtree(folder, ignore_errors=True)
    return joined_slabs(slabs, meshes, cell)
