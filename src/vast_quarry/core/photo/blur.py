"""Which photos of a shoot are blurred: their edges against those of the set, and of the photos that show the same side."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.photo.looks import SHARED, Look, Verdict
from vast_quarry.core.words import say

#: edges this much wider than the set's median are doubtful, are to be left out; and at least so wide (pixels)
BLURRED, USELESS = 1.7, 2.6
BLURRED_PX, USELESS_PX = 1.6, 3.2
#: edges this much wider than those of the photos that show the same side, of which most are sharper, are doubtful too: a
#: lap's far side may be softer as a whole
BESIDE, ABOVE_MOST, NEIGHBOURS = 1.4, 1.15, 6
#: edges this much wider one way than the other tell motion
LOPSIDED = 1.6


def neighbours(count: int, shared: Mapping[tuple[int, int], int]) -> list[list[int]]:
    """Of each photo, the few that share most features with it: they show the same side of the subject."""
    partners: list[list[tuple[int, int]]] = [[] for _ in range(count)]
    for (i, j), m in shared.items():
        if m >= SHARED:
            partners[i].append((-m, j))
            partners[j].append((-m, i))
    return [[j for _, j in sorted(p)[:NEIGHBOURS]] for p in partners]


def judge_blur(
    looks: Sequence[Look], out: list[Verdict], rows: NDArray[np.int64], everyone: NDArray[np.int64],
    near: Sequence[Sequence[int]],
) -> None:  # fmt: skip
    """Mark photos of a set (``rows``) whose edges are wide against those of all, or of the photos that show the same side."""

    # widths grow with the photo's size: compared as if all were of one size
    def width(k: int, which: str) -> float:
        return float(getattr(looks[k].quality, which)) / max(looks[k].width, looks[k].height)

    def beside(k: int, which: str) -> NDArray[np.float64]:
        return np.array([w for j in near[k] if np.isfinite(w := width(j, which))])

    usual = {w: float(np.nanmedian([width(int(k), w) for k in everyone])) for w in ("sharpness_px", "widest_px")}

    def limit(k: int, which: str) -> float:
        most, of_side = BLURRED * usual[which], beside(k, which)
        if len(of_side) >= NEIGHBOURS - 2:
            most = min(most, max(BESIDE * float(np.median(of_side)), ABOVE_MOST * float(np.quantile(of_side, 0.75))))
        side = max(looks[k].width, looks[k].height)
        return max(most * side, BLURRED_PX * max(side / 4000, 1.0))  # large photos are never sharp to the pixel

    for k in (int(r) for r in rows):
        q = looks[k].quality
        floor = max(looks[k].width, looks[k].height, 4000) / 4000
        moved = q.lopsided > LOPSIDED
        which = "widest_px" if moved else "sharpness_px"
        if np.isfinite(most := limit(k, "sharpness_px")):
            out[k].limits["sharpness_px"] = round(most, 3)
        of_set = usual[which]
        px, mine = getattr(q, which), width(k, which)
        if not px > limit(k, which):
            continue
        ratio = mine / max(of_set, 1e-12)
        useless = ratio > USELESS and px > USELESS_PX * floor
        reason = "motion blur" if moved else "out of focus"
        if ratio <= BLURRED:
            ratio = mine / float(np.median(beside(k, which)))
            pattern = (
                "has about {px} px of motion blur ({ratio} times that of its neighbours)"
                if moved
                else "is out of focus: its edges are {px} pixels wide ({ratio} times those of its neighbours)"
            )
        else:
            pattern = (
                "has about {px} px of motion blur ({ratio} times the usual)"
                if moved
                else "is out of focus: its edges are {px} pixels wide ({ratio} times the usual)"
            )
        says = say(pattern, px=round(px, 1), ratio=round(ratio, 1))
        out[k].mark("leave out" if useless else "doubtful", reason, says)
