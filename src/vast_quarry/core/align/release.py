"""Lens unknowns put to the test: what is solved has to explain observations that took no part in solving it.

Of tracks that many photos follow one observation in eight is held out; the set is adjusted by the others, once with all
unknowns that the photos seem to determine, and with fewer. Errors of what was held out and of what was refused count up to
a bound, so that the number that agree counts as well as how well they do.

References
----------
Stone, M. (1974). Cross-validatory choice and assessment of statistical predictions. J. R. Stat. Soc. B 36(2).
Torr, P., Zisserman, A. (2000). MLESAC. Computer Vision and Image Understanding 78(1) (bounded errors).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.lens import LENS_UNKNOWNS
from vast_quarry.core.align.model import Bools, Model

#: errors count up to so many sigmas
BOUND = 4.0
#: more unknowns must not raise the bounded errors by more than this share
WORSE = 0.01
#: a lens held where it is not explains so many times as badly after a few steps
HOPELESS = 1.5
#: one observation in so many is held out
HELD_OUT = 8
#: ever more of a lens
_STEPS = (("f",), ("f", "k1"), LENS_UNKNOWNS)


def proven_unknowns(m: Model, loss: float = 1.5) -> Bools:
    """Lens unknowns (g, 8) that the photos determine and that explain what was held out; the model stays as it is."""
    wanted = m.decide()
    some = m.some()
    long_enough = np.bincount(m.track_of[m.inlier], minlength=len(m.tracks)) >= 4
    pool = np.flatnonzero(m.inlier & some & long_enough[m.track_of])
    if not wanted.any() or len(pool) < 200:
        return wanted
    held = np.zeros(len(m.inlier), bool)
    held[np.random.default_rng(0).choice(pool, len(pool) // HELD_OUT, replace=False)] = True
    # and as many of those refused by little, which may agree under another lens
    refused = np.flatnonzero(~m.inlier & some & (m.errors() < 2 * BOUND * m.noise.sigma(m.scale)))
    judged = held.copy()
    judged[refused[::HELD_OUT]] = True
    sets = [np.zeros_like(wanted)]
    for names in _STEPS:
        more = wanted & np.isin(LENS_UNKNOWNS, names)
        if (more != sets[-1]).any():
            sets.append(more)
    use = m.inlier & some & ~held
    most = _cost(m, sets[-1], use, judged, loss)
    best, least = sets[0], np.inf
    for free in sets:
        cost = most if free is sets[-1] else _cost(m, free, use, judged, loss, HOPELESS * most)
        if cost < (1 + WORSE) * least:
            best, least = free, min(cost, least)
    return best


def _cost(m: Model, free: Bools, use: Bools, judged: Bools, loss: float, hopeless: float = np.inf) -> float:
    """Bounded squared errors of what is judged after an adjustment by ``use``; the model is put back.

    What is still over ``hopeless`` after some steps is not adjusted to the end.
    """
    before = m.state()
    m.hold_but(free)
    for iterations in (4, 8):
        m.adjust(loss, iterations=iterations, tolerance=2e-4, use=use)
        e = m.errors()[judged] / m.noise.sigma(m.scale[judged])
        e = np.minimum(np.where(np.isfinite(e), e, BOUND), BOUND)
        cost = float(e @ e)
        if cost > hopeless:
            break
    m.go_back(before)
    return cost


#: other focal lengths that are tried, as factors
FACTORS = (0.62, 0.8, 1.25, 1.6)


def try_focals(m: Model, guessed: list[bool], threshold: float, angle: float) -> bool:
    """Give lenses whose focal length was guessed another one where that explains clearly more; whether one was.

    Poses and a wrong focal length can hold each other in place, above all before a plane: the slope between two such
    states may lead uphill, so that an adjustment alone does not get across.
    """
    changed = False
    for lens in np.flatnonzero(guessed).tolist():
        if (m.placed & (m.lens_of == lens)).sum() < 3:
            continue
        best, least = m.state(), m.bounded_cost(threshold)
        begun = best
        for factor in FACTORS:
            m.go_back(begun)
            m.refocus(lens, factor)
            m.free = np.zeros_like(m.free)
            m.adjust(2.0, iterations=6, tolerance=1e-2)
            m.free = begun[5].copy()
            m.free[lens, [0, 3]] = True
            m.adjust(2.0, iterations=12, tolerance=1e-3)
            m.triangulate(threshold, angle)
            m.adjust(2.0, iterations=6, tolerance=1e-3)
            cost = m.bounded_cost(threshold)
            if cost < 0.98 * least:
                best, least, changed = m.state(), cost, True
        m.go_back(best)
    return changed


def shares_lens(m: Model, own_lens: NDArray[np.int64] | None, worse: float = 1.6) -> None:
    """Photos that were lent another's lens get one of their own where it explains them clearly worse than the others."""
    if own_lens is None:
        return
    e = m.errors() / m.noise.sigma(m.scale)
    for own in np.unique(own_lens[own_lens != m.lens_of]):
        mine = m.placed & (own_lens == own)
        host = int(m.lens_of[np.flatnonzero(own_lens == own)[0]])
        theirs = m.placed & (own_lens == host)
        a = e[mine[m.tracks.photo] & np.isfinite(e)]
        b = e[theirs[m.tracks.photo] & np.isfinite(e)]
        # one that is placed badly or not at all tells nothing good of the lens it was lent
        lost = np.mean(~m.placed[own_lens == own])
        if (len(a) and len(b) and np.median(a) > worse * np.median(b)) or lost > 0.3:
            m.lens_of = np.where(own_lens == own, own, m.lens_of)
            m.lenses[own] = m.lenses[host] if len(a) else m.lenses[own]
            m._normalised = None
