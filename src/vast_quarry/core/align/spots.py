"""Runs of photos that were placed on one spot although what they show moves: a part of a capture that followed something else.

Frames that really stand still show the same picture. Where pictures change and cameras do not move, the camera was turned on the spot, or
the photos follow a backdrop that stands still while the subject moves before it: of the subject they say something wrong.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.model import Model

Matches = dict[tuple[int, int], NDArray[np.int32]]

#: photos of a run, at least; cameras are on one spot within this share of their distance from the points; pictures moved that moved by
#: so many thousandths of the longer side (median of what a pair shares), matches that tell
FEWEST, SPOT, MOVED, TELL = 4, 0.0015, 4.0, 14


def on_one_spot(
    model: Model, xy: Sequence[NDArray[np.float32]], matches: Matches, order: NDArray[np.int64]
) -> list[list[int]]:
    """Runs of placed photos on one spot whose pictures moved.

    Parameters
    ----------
    xy : list of (N_i, 2)
        Features of each photo in pixels.
    matches : dict
        ``(i, j)`` to (K, 2) feature numbers.
    order : (n,)
        The photos in the order of shooting.
    """
    along = order[model.placed[order]].tolist()
    points = model.points[model.good]
    if len(along) < FEWEST or not len(points):
        return []
    middle = np.median(points, axis=0)
    runs: list[list[int]] = []
    run = along[:1]
    for n in along[1:]:
        distance = float(np.linalg.norm(model.centers[run[0]] - middle))
        if np.linalg.norm(model.centers[n] - model.centers[run[0]]) < SPOT * distance:
            run.append(n)
            continue
        runs.append(run)
        run = [n]
    runs.append(run)
    return [r for r in runs if len(r) >= FEWEST and _moved(model, r, xy, matches)]


def _moved(model: Model, run: list[int], xy: Sequence[NDArray[np.float32]], matches: Matches) -> bool:
    """Whether what photos of a run share moves between the pair that is farthest apart in time of those that share enough."""
    inside = set(run)
    pairs = [p for p, m in matches.items() if len(m) >= TELL and p[0] in inside and p[1] in inside]
    if not pairs:
        return False
    i, j = max(pairs, key=lambda p: abs(run.index(p[0]) - run.index(p[1])))
    m = matches[i, j]
    far = np.linalg.norm(xy[i][m[:, 0]].astype(float) - xy[j][m[:, 1]], axis=1) / model.sizes[i].max() * 1000
    return bool(np.median(far) > MOVED)
