"""Photos added to an alignment that is there: placed by its points, then all cameras solved together.

What is known stays where it was but for what the new photos say of it; nothing is grown again from a first pair.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.growth import GROWING, ROUNDS, AlignInput, Grower, lay_ground
from vast_quarry.core.align.incremental import JOINED_ANGLE, Search, agrees_with_little, without_contradicted
from vast_quarry.core.align.model import Model
from vast_quarry.core.camera import Camera
from vast_quarry.core.progress import Progress, silent

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Known:
    """Where some of the photos stand already.

    Attributes
    ----------
    rows : (K,) int
        Which they are.
    rotations : (K, 3, 3), centers : (K, 3)
    lenses : list of Camera
        Lens of each.
    """

    rows: NDArray[np.int64]
    rotations: Array
    centers: Array
    lenses: list[Camera]


def add_to(data: AlignInput, known: Known, progress: Progress = silent) -> Model | None:
    """The model with all photos of ``data`` that can be placed now.

    None where what is known does not carry over: photos that shared a lens have several, too few points come of it, or photos
    that stood well are lost.
    """
    data = without_contradicted(data)
    ground = lay_ground(data)
    lenses = list(ground.lenses)
    lens_of = data.lens_of[known.rows]
    for g in np.unique(lens_of):
        mine = [known.lenses[k].vector for k in np.flatnonzero(lens_of == g)]
        if np.ptp(np.stack(mine), axis=0).max() > 1e-9:
            return None
        lenses[int(g)] = lenses[int(g)].with_vector(mine[0])
    grower = Grower(data, ground, lenses, progress)
    grower.angle, grower.looks = JOINED_ANGLE, []
    m = grower.model
    m.rotations[known.rows], m.centers[known.rows] = known.rotations, known.centers
    m.placed[known.rows] = True
    # what was solved of a lens is solved on
    m.free[np.unique(lens_of)] = True
    if m.triangulate(2 * GROWING, grower.angle) < 20:
        return None
    m.measure_noise(2 * GROWING)
    m.triangulate(GROWING, grower.angle)
    grower.grow()
    m.split(GROWING)
    m.adjust_by_some(ROUNDS[-1][1], 12, 5e-4, ROUNDS[-1][0], 0.8 * grower.angle)
    grower.settle(quickly=True)
    if m.placed[known.rows].mean() < 0.95 or agrees_with_little(m):
        return None
    Search(data, ground, progress).doubted(m)
    return m
