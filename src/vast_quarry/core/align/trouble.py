"""Why photos cannot be aligned, told from how matched places move between them.

========================  ==========================================================================================
nothing moves             the photos are all the same view: a tripod and a still subject, or frames of a still film
turned on the spot        places move, and a rotation alone explains it for some focal length: a panorama
still backdrop            of what two photos share a good part stands exactly still while the rest moves
too few matches           hardly any pairs, or pairs of few matches
no parallax               places move, but depth does not show: tiny steps, or only a plane from far away
========================  ==========================================================================================

References
----------
Hartley, R., Zisserman, A. (2004). Multiple View Geometry in Computer Vision, 2nd ed., ch. 8.4 (rotating about the centre),
ch. 19.6 (focal length from it).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.start import best_rotation
from vast_quarry.core.camera import Camera

Array = NDArray[np.float64]
Cause = Literal["nothing moves", "turned on the spot", "still backdrop", "too few matches", "no parallax"]

#: movement below this is none, in thousandths of the longer side
STILL = 1.0
#: focal lengths tried for a turn on the spot, as shares of the longer side
FOCALS = np.geomspace(0.5, 3.2, 14)


@dataclass(frozen=True)
class Trouble:
    """A cause, and the photos (by their places) that show it best."""

    cause: Cause
    photos: tuple[int, ...]


@dataclass(frozen=True)
class Moves:
    """How the places that two photos share move, in thousandths of the longer side.

    ``still`` is the share that does not move, ``far`` the median of how far the rest moves (0 without any), ``left`` the
    median of what the best rotation leaves at each of :data:`FOCALS`.
    """

    i: int
    j: int
    count: int
    still: float
    far: float
    moving: int
    left: Array


def moves_of(i: int, j: int, x1: Array, x2: Array, camera: Camera) -> Moves:
    """Movement between two photos from matched pixels (K, 2)."""
    longest = max(camera.width, camera.height)
    far = np.linalg.norm(x2 - x1, axis=1) / longest * 1000
    rest = far >= STILL
    middle = np.array([(camera.width - 1) / 2, (camera.height - 1) / 2])
    left = np.full(len(FOCALS), np.inf)
    if rest.sum() >= 8:
        for k, f in enumerate(FOCALS * longest):
            d1, d2 = (np.concatenate([(x - middle) / f, np.ones((len(x), 1))], 1) for x in (x1, x2))
            d1, d2 = (d / np.linalg.norm(d, axis=1, keepdims=True) for d in (d1, d2))
            q = d1 @ best_rotation(d1, d2).T
            p = q[:, :2] / np.maximum(q[:, 2:], 1e-6) * f + middle
            left[k] = float(np.median(np.linalg.norm(p - x2, axis=1)) / longest * 1000)
    moved = float(np.median(far[rest])) if rest.any() else 0.0
    return Moves(i, j, len(far), 1 - float(rest.mean()), moved, int(rest.sum()), left)


def what_is_wrong(moves: list[Moves], photos: int) -> Trouble:
    """The likeliest cause why no model can be begun."""
    rich = [m for m in moves if m.count >= 30]
    if not rich or len({k for m in rich for k in (m.i, m.j)}) < max(2, 0.3 * photos):
        alone = set(range(photos)) - {k for m in rich for k in (m.i, m.j)}
        return Trouble("too few matches", tuple(sorted(alone))[:6])
    weak = backdrop_pairs(rich)
    if len(weak) > 0.3 * len(rich):
        return Trouble("still backdrop", _named(weak, key=lambda m: -m.still * m.far))
    if np.mean([m.still > 0.9 for m in rich]) > 0.8:
        return Trouble("nothing moves", _named(rich, key=lambda m: m.far))
    if turns_on_the_spot(rich):
        return Trouble("turned on the spot", _named(rich, key=lambda m: -m.far))
    return Trouble("no parallax", _named(rich, key=lambda m: -m.far))


def backdrop_pairs(moves: list[Moves]) -> list[Moves]:
    """Pairs in which much stands exactly still while something else moves well."""
    return [m for m in moves if 0.25 < m.still < 0.97 and m.moving >= 12 and m.far > 5 * STILL]


def turns_on_the_spot(moves: list[Moves], left: float = 1.5) -> bool:
    """Whether at one focal length a rotation explains nearly all pairs that move to within ``left`` thousandths.

    Pairs that move very far are left aside: what the lens distorts shows most in them.
    """
    moving = [m for m in moves if 8 * STILL < m.far < 250 and m.moving >= 20 and m.still < 0.5]
    if len(moving) < 2:
        return False
    return bool(np.quantile(np.stack([m.left for m in moving]), 0.9, axis=0).min() < left)


def _named(moves: list[Moves], key) -> tuple[int, ...]:  # type: ignore[no-untyped-def]
    """The photos of the three pairs that show it best."""
    out: list[int] = []
    for m in sorted(moves, key=key)[:3]:
        out += [k for k in (m.i, m.j) if k not in out]
    return tuple(out)
