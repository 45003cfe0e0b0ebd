"""Which frames of a video to take: by motion, step, rate or count, in each kept range by itself."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from vast_quarry.core.photo.frames import By, Scan, by_count, by_rate, by_step
from vast_quarry.core.photo.travel import by_motion

#: changes when frames are chosen in another way: those taken before are taken anew
CHOSEN_BY = "angle 1"


def choose(
    s: Scan, by: By, degrees: float, step: int, rate: float, count: int, ranges: Sequence[tuple[float, float]]
) -> list[int]:
    """Frames to take; in each kept range by itself, so that none is chosen across a cut."""
    number, time = s.all_frames
    kept = [(a - 1e-6, b + 1e-6) for a, b in ranges] or [(-np.inf, np.inf)]
    rows = [np.flatnonzero((s.time >= a) & (s.time <= b)) for a, b in kept]
    within = [np.flatnonzero((time >= a) & (time <= b)) for a, b in kept]
    out: list[int] = []
    for r, w in zip(rows, within):
        if not len(w):
            continue
        first, last = int(w[0]), int(w[-1])
        part = s.part(r)
        listed = replace(s.part(r[:0]), number=number[first : last + 1], time=time[first : last + 1])
        share = max(1, round(count * len(w) / max(sum(len(x) for x in within), 1)))
        if by == "motion":
            out += by_motion(part, degrees)
        elif by == "step":
            out += by_step(listed, step)
        elif by == "rate":
            out += by_rate(listed, rate)
        else:
            out += by_count(listed, share)
    return sorted(set(out))
