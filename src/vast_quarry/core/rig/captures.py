"""Captures as people make them, beside neat rings: clips that stand still, short arcs, walks with a side missing, and those
that cannot work, with the reason they are known to fail for.

A capture is written ``name`` or ``name:count``.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.plan.rings import Station
from vast_quarry.core.pose import look_at, rotation_from_vector

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Capture:
    """A capture: how many photos by default, in words, and why it fails where it must (see align.trouble)."""

    count: int
    words: str
    fails: str = ""
    #: the subject moves before a still, sharp background
    pushed: bool = False


CAPTURES = {
    "clip": Capture(30, "a clip of 15 degrees in all that stands still now and then"),
    "arc": Capture(20, "an arc of 15 degrees by hand, near and far"),
    "open": Capture(20, "a walk round with one side missing"),
    "lap": Capture(72, "one lap every 5 degrees"),
    "mixed": Capture(28, "wide and close photos mixed"),
    "pushed": Capture(24, "a subject pushed about and turned before a still desk", pushed=True),
    "panorama": Capture(16, "a camera turned on the spot", fails="turned on the spot"),
    "tripod": Capture(10, "frames of a camera on a tripod and a still subject", fails="nothing moves"),
}


def parse_capture(text: str) -> tuple[str, int]:
    """``clip`` or ``clip:40`` as a name and a number of photos.

    Raises
    ------
    ValueError
        When it is not written like that.
    """
    name, _, number = text.partition(":")
    if name not in CAPTURES or (number and not (number.isdigit() and 2 <= int(number) <= 2000)):
        raise ValueError(f"a capture is written like clip or clip:30, with one of {', '.join(CAPTURES)}; not {text!r}")
    return name, int(number) if number else CAPTURES[name].count


def capture_stations(name: str, count: int, target: Array, distance: float, seed: int = 0) -> list[Station]:
    """Where the camera stands, photo by photo, seen from the subject."""
    rng = np.random.default_rng(seed + 41)
    shake = rng.normal(0, 1, (count, 6))

    def at(turn: float, rise: float, near: float, k: int, hand: float = 0.004, aim: Array | None = None) -> Station:
        e, a = np.radians(rise), np.radians(turn)
        center = target + near * distance * np.array([np.sin(a) * np.cos(e), -np.cos(a) * np.cos(e), np.sin(e)])
        center = center + hand * distance * shake[k, :3]
        look = (target if aim is None else aim) + hand * distance * shake[k, 3:]
        return Station(look_at(center, look, roll_deg=float(hand * 120 * shake[k, 0])), center, 0)

    if name == "clip":
        # a sixth of the frames stand still: in the beginning, in the middle, at the end
        still = max(1, count // 6)
        step = np.ones(count)
        step[0] = 0.0
        at_start, at_end = (still + 2) // 3, still // 3
        middle = still - at_start - at_end
        for begin, many in ((1, at_start), (count // 2, middle), (count - at_end, at_end)):
            step[begin : begin + many] = 0.0
        turn = np.cumsum(step)
        turn *= 15.0 / max(turn[-1], 1.0)
        clip: list[Station] = []
        for k, t in enumerate(turn):
            moved = at(-7.5 + float(t), 22.0 + 3 * np.sin(t / 4), 1.0, k, 0.0015)
            # what stands still shares its station but for a hand's tremor
            still_hand = rotation_from_vector(2e-5 * shake[k, :3])
            clip.append(moved if k == 0 or step[k] else Station(still_hand @ clip[-1].rotation, clip[-1].center, 0))
        return clip
    if name == "arc":
        return [at(15.0 * k / (count - 1), 25.0 + 2 * np.sin(k), 1.0 + 0.12 * np.sin(0.7 * k), k) for k in range(count)]
    if name == "open":
        return [at(260.0 * k / (count - 1), 20.0 + 18.0 * (k % 2), 1.0, k, 0.015) for k in range(count)]
    if name == "lap":
        return [at(360.0 * k / count, 22.0, 1.0, k) for k in range(count)]
    if name == "mixed":
        wide = count // 2
        around = [at(360.0 * k / wide, 22.0, 1.35, k, 0.01) for k in range(wide)]
        up = np.array([0.0, 0.0, 0.12 * distance])
        close = [
            at(360.0 * (k + 0.5) / (count - wide), 18.0, 0.55, wide + k, 0.01, target + up * (1 if k % 2 else -0.4))
            for k in range(count - wide)
        ]
        return around + close
    if name == "pushed":
        return [at(9.0 * k + 3 * np.sin(2.0 * k), 24.0, 1.0, k, 0.02) for k in range(count)]
    if name == "panorama":
        first = at(0.0, 24.0, 1.0, 0, 0.0)
        turns = np.stack([np.linspace(-4, 4, count), np.linspace(-11, 11, count), np.zeros(count)], 1)
        return [Station(rotation_from_vector(np.radians(t)) @ first.rotation, first.center, 0) for t in turns]
    first = at(0.0, 24.0, 1.0, 0, 0.0)
    return [Station(rotation_from_vector(1e-5 * shake[k, :3]) @ first.rotation, first.center, 0) for k in range(count)]
