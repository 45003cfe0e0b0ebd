"""Fewer triangles to a count or to a stated error, which is measured."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.deviation import Deviation, Measured
from vast_quarry.core.surface.decimate import decimate
from vast_quarry.core.surface.holes import close_holes
from vast_quarry.core.surface.mesh import open_edges
from vast_quarry.core.words import say

Array = NDArray[np.float64]
Faces = NDArray[np.int64]
#: triangles at least; how near (factor) the count is to the fewest that keep the error, and by what factor it falls step by step before
FEWEST, NEAR, STEP = 16, 1.05, 4


def fewer_within(
    vertices: Array, faces: Faces, error: float, check: Callable[[], None] = lambda: None
) -> tuple[Array, Faces, Deviation]:
    """About the fewest triangles of which 95 of 100 places lie within ``error`` (world units) of the mesh that is given, and it of them.

    Raises
    ------
    PlainError
        When the error is no length, or when even the mesh's own triangles miss it.
    """
    if not (np.isfinite(error) and error > 0):
        raise PlainError("The error has to be a length above 0.", "Say it in mm, such as 0.2.")
    measured = Measured(vertices, faces)
    kept = (vertices, faces, Deviation(0.0, 0.0, 0.0))
    enough, few = len(faces), 0
    # each from what was good before: far quicker than from the start, and hardly worse
    while enough / max(few, 1) > NEAR and enough > FEWEST:
        check()
        count = max(FEWEST, int(enough / STEP) if not few else int(np.sqrt(enough * few)))
        v, f = decimate(kept[0], kept[1], count)
        if len(f) >= len(kept[1]):
            few = count
            continue
        found = measured.against(v, f)
        if found.most_of_it <= error:
            kept, enough = (v, f, found), min(len(f), count)
        else:
            few = count
    return kept


def fewer(vertices: Array, faces: Faces, count: int) -> tuple[Array, Faces]:
    """About ``count`` triangles.

    Raises
    ------
    PlainError
        When the count is no number of triangles.
    """
    if count < 4:
        raise PlainError("A body has at least 4 triangles.", "Ask for more.")
    v, f = decimate(vertices, faces, count)
    # a closed surface stays so
    if len(f) and len(open_edges(f)) and not len(open_edges(faces)):
        v, f = close_holes(v, f)
    if not len(f):
        raise PlainError(say("Nothing is left at {count} triangles.", count=count), "Ask for more.")
    return v, f
