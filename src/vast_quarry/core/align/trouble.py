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
#: focal lengths tried for a turn on the spot, as factors of the lens's: it may be a guess, but not any (a plane that is
#: passed at its side would look like a turn with a very long lens)
FOCALS = np.geomspace(0.62, 1.6, 12)
#: a turn on the spot leaves at most this share of the movement, in the median and in nine tenths of the pairs
LEFT = (0.05, 0.1)
#: usual movement (thousandths) of a pair below which nothing moves
NOTHING = 4.0


@dataclass(frozen=True)
class Trouble:
    """A cause, and the photos (by their places) that show it best."""

    cause: Cause
    photos: tuple[int, ...]


@dataclass(frozen=True)
class Moves:
    """How the places that two photos share move, in thousandths of the longer side.

    ``usual`` is the median of how far all move, ``still`` the share that does not move, ``far`` the median of how far the
    rest moves (0 without any), ``left`` the median of what the best rotation leaves at each of :data:`FOCALS`.
    """

    i: int
    j: int
    count: int
    usual: float
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
        for k, f in enumerate(FOCALS * camera.fx):
            d1, d2 = (np.concatenate([(x - middle) / f, np.ones((len(x), 1))], 1) for x in (x1, x2))
            d1, d2 = (d / np.linalg.norm(d, axis=1, keepdims=True) for d in (d1, d2))
            q = d1 @ best_rotation(d1, d2).T
            p = q[:, :2] / np.maximum(q[:, 2:], 1e-6) * f + middle
            left[k] = float(np.median(np.linalg.norm(p - x2, axis=1)) / longest * 1000)
    moved = float(np.median(far[rest])) if rest.any() else 0.0
    return Moves(i, j, len(far), float(np.median(far)), 1 - float(rest.mean()), moved, int(rest.sum()), left)


def what_is_wrong(moves: list[Moves], photos: int) -> Trouble:
    """The likeliest cause why no model can be begun."""
    rich = [m for m in moves if m.count >= 30]
    if not rich or len({k for m in rich for k in (m.i, m.j)}) < max(2, 0.3 * photos):
        alone = set(range(photos)) - {k for m in rich for k in (m.i, m.j)}
        return Trouble("too few matches", tuple(sorted(alone))[:6])
    weak = backdrop_pairs(rich)
    if len(weak) > 0.3 * len(rich):
        return Trouble("still backdrop", _named(weak, key=lambda m: -m.still * m.far))
    if nothing_moves(rich):
        return Trouble("nothing moves", _named(rich, key=lambda m: m.far))
    if turns_on_the_spot(rich):
        return Trouble("turned on the spot", _named(rich, key=lambda m: -m.far))
    return Trouble("no parallax", _named(rich, key=lambda m: -m.far))


def cannot_be_aligned(moves: list[Moves]) -> bool:
    """Whether it is plain beforehand that no depth can come of it, whatever an alignment would make of noise."""
    rich = [m for m in moves if m.count >= 30]
    return len(rich) > 1 and (turns_on_the_spot(rich) or (nothing_moves(rich) and not backdrop_pairs(rich)))


def backdrop_pairs(moves: list[Moves]) -> list[Moves]:
    """Pairs in which much stands exactly still while something else moves well."""
    return [m for m in moves if 0.25 < m.still < 0.995 and m.moving >= 12 and m.far > 8 * STILL]


def nothing_moves(moves: list[Moves]) -> bool:
    """Whether nine of ten pairs show the same view."""
    return bool(np.quantile([m.usual for m in moves], 0.9) < NOTHING)


def turns_on_the_spot(moves: list[Moves]) -> bool:
    """Whether at one focal length a rotation explains nearly all movement of the pairs that move at all.

    Pairs that move very far are left aside: what the lens distorts shows most in them.
    """
    moving = [m for m in moves if 8 * STILL < m.far < 250 and m.moving >= 20 and m.still < 0.5]
    if len(moving) < 2:
        return False
    share = np.stack([m.left / m.far for m in moving])
    best = int(np.median(share, axis=0).argmin())
    return bool(np.median(share[:, best]) < LEFT[0] and np.quantile(share[:, best], 0.9) < LEFT[1])


def _named(moves: list[Moves], key) -> tuple[int, ...]:  # type: ignore[no-untyped-def]
    """The photos of the three pairs that show it best."""
    out: list[int] = []
    for m in sorted(moves, key=key)[:3]:
        out += [k for k in (m.i, m.j) if k not in out]
    return tuple(out)
