"""Groups of photos joined by places that somebody picked in photos of both.

Three places or more that are marked in two photos of either group give the similarity between their frames; as observations of
their own they then take part in the adjustment of all cameras together.

References
----------
Umeyama, S. (1991). Least-squares estimation of transformation parameters between two point patterns. IEEE TPAMI 13(4).
"""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from dataclasses import replace
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.model import Model
from vast_quarry.core.align.scale import place_from_marks
from vast_quarry.core.errors import PlainError
from vast_quarry.core.pose import fit_similarity

Array = NDArray[np.float64]
Marks = Mapping[int, tuple[float, float]]

#: places that join two groups, how far they have to lie off one line (share of how far they lie along it), and by how much they may
#: miss each other once joined (thousandths of a photo's longer side)
FEWEST, OFF_LINE, MISS = 3, 0.05, 20.0
#: a mark set by hand is as precise as a feature of so many thousandths of the photo's longer side
AS_LARGE = 15.0


def with_picked(data: AlignInput) -> AlignInput:
    """What alignment starts from, with picked places as features that were matched by hand."""
    if not data.picked:
        return data
    xy, scale, matches = list(data.xy), list(data.scale), dict(data.matches)
    for marks in data.picked:
        number = {}
        for row, at in sorted(marks.items()):
            lens = data.lenses[data.lens_of[row]]
            number[row] = len(xy[row])
            xy[row] = np.concatenate([xy[row], np.array([at], np.float32)])
            large = np.float32(AS_LARGE * max(lens.width, lens.height) / 1000)
            scale[row] = np.concatenate([scale[row], np.array([large], scale[row].dtype)])
        for i, j in combinations(sorted(number), 2):
            pair = np.array([[number[i], number[j]]], np.int32)
            matches[i, j] = np.concatenate([matches[i, j], pair]) if (i, j) in matches else pair
    return replace(data, xy=xy, scale=scale, matches=matches)


def _places(model: Model, picked: Sequence[Marks]) -> dict[int, Array]:
    """Picked places in the frame of a model, by number: those marked in two of its photos that look from different sides."""
    out = {}
    for k, marks in enumerate(picked):
        rows = [r for r in marks if model.placed[r]]
        lenses = [model.lenses[model.lens_of[r]] for r in rows]
        try:
            pixels = np.array([marks[r] for r in rows], float).reshape(-1, 2)
            out[k] = place_from_marks(pixels, lenses, model.rotations[rows], model.centers[rows]).at
        except PlainError:
            continue
    return out


def _common(model: Model, other: Model, picked: Sequence[Marks]) -> tuple[list[int], Array, Array]:
    """Numbers of the places that both groups know, and where they lie in either (K, 3)."""
    mine, theirs = _places(model, picked), _places(other, picked)
    both = sorted(set(mine) & set(theirs))
    return both, *(np.array([of[k] for k in both], float).reshape(-1, 3) for of in (mine, theirs))  # type: ignore[return-value]


def join_by_places(model: Model, other: Model, picked: Sequence[Marks]) -> tuple[Model | None, dict[int, float]]:
    """The other group in the frame of the model, and by how much places miss, by number (thousandths of a photo's longer side).

    None where they know fewer than three places in common, these lie on one line, or they do not fit each other.
    """
    both, a, b = _common(model, other, picked)
    if len(both) < FEWEST or _off_line(a) < OFF_LINE or _off_line(b) < OFF_LINE:
        return None, {}
    similarity = fit_similarity(b, a)
    rows = np.flatnonzero(model.placed)
    far = np.linalg.norm(a[:, None] - model.centers[rows][None], axis=2)
    nearest = rows[far.argmin(1)]
    shown = 1000 * model.focal[nearest] / model.sizes[nearest].max(1) / np.maximum(far.min(1), 1e-12)
    off = np.linalg.norm(similarity.points(b) - a, axis=1) * shown
    miss = {k: float(x) for k, x in zip(both, off)}
    if off.max() > MISS:
        return None, miss
    moved = copy.copy(other)
    moved.rotations, moved.centers = other.rotations.copy(), other.centers.copy()
    for n in np.flatnonzero(other.placed):
        moved.rotations[n], moved.centers[n] = similarity.pose(other.rotations[n], other.centers[n])
    return moved, miss


def _off_line(points: Array) -> float:
    """How far points lie off one line, as a share of how far they lie along it."""
    s = np.linalg.svd(points - points.mean(0), compute_uv=False)
    return float(s[1] / max(s[0], 1e-300))
