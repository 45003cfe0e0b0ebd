"""Focal lengths that are not what they were said to be: a wrong entry in the photo's data, a zoom changed on the way.

Poses and points bend to make up for a wrong focal length, and then hold each other there. Where a model explains its
observations badly each photo is given a focal length of its own, hardly tied to anything: that frees what was bent. Photos of
one lens come out alike; where a lens was zoomed their focal lengths fall into groups with a clear gap between them.

References
----------
Sturm, P. (1999). Critical motion sequences for the self-calibration of cameras with variable focal length. BMVC.
Pollefeys, M., Koch, R., Van Gool, L. (1999). Self-calibration and metric reconstruction in spite of varying and unknown
intrinsic camera parameters. IJCV 32(1).
"""

from __future__ import annotations

import copy
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.align.lens import FOCAL_GUESSED, LensPrior, prior_of
from vast_quarry.core.align.model import Model
from vast_quarry.core.camera import Camera

Array = NDArray[np.float64]

#: noise (thousandths of a photo's longer side) above which, and share of observations that agree below which, a model is doubted.
#: Measured: sound ones 0.1 to 0.5 and 0.84 to 0.99, a focal length twice too long 3.5 and 0.84, a zoom changed by half 0.85 and
#: 0.82; made-up points with a zoom changed 0.23 and 0.79. A doubt costs time, no more
NOISY, AGREEING = 0.5, 0.82
#: rounds in which focal lengths are free, robust loss and threshold in sigmas
ROUNDS, LOSS, THRESHOLD = 3, 3.0, 6.0
#: gap (share of the focal length) between groups of photos, and the fewest of a group
GAP, GROUP = 0.06, 3
#: what a focal length has to differ by to be another one than was said
OTHER = 0.1


@dataclass(frozen=True)
class Refocused:
    """Photos whose focal length was found to be another: their places, and both focal lengths in pixels."""

    photos: tuple[int, ...]
    said: float
    found: float


def doubtful(m: Model) -> bool:
    """Whether a model explains its observations too badly for its lenses to be right."""
    placed = m.placed[m.tracks.photo]
    if m.placed.sum() < 2 * GROUP or not placed.any():
        return False
    noise = float(np.median(m.relative_sigma()[placed]))
    return noise > NOISY or float(m.inlier[placed].mean()) < AGREEING


def own_focals(m: Model, angle: float) -> Model:
    """The model with a focal length of its own for each photo, adjusted anew; ``m`` stays as it is."""
    out = copy.copy(m)
    n = len(m.placed)
    out.rotations, out.centers, out.placed = m.rotations.copy(), m.centers.copy(), m.placed.copy()
    out.lenses = [m.lenses[int(k)] for k in m.lens_of]
    out.lens_of, out.prior = np.arange(n), prior_of(out.lenses, [True] * n)
    out.free = np.zeros((n, 8), bool)
    out.free[:, 0] = True
    out.triangulate(THRESHOLD, angle)
    for _ in range(ROUNDS):
        out.adjust(LOSS, 20, 1e-4, use=out.inlier & out.some())
        out.triangulate(THRESHOLD, angle)
        out.measure_noise(2 * THRESHOLD)
    return out


def groups_of(focals: Array) -> list[NDArray[np.int64]]:
    """Groups of focal lengths (N,) with a clear gap between them, by their places, the largest first; stray ones join the
    nearest."""
    order = np.argsort(focals)
    value = np.log(focals[order])
    cuts = np.flatnonzero(np.diff(value) > GAP) + 1
    parts = [p for p in np.split(order, cuts) if len(p) >= GROUP]
    if len(parts) < 2:
        return [np.sort(order)]
    middles = np.array([np.median(np.log(focals[p])) for p in parts])
    nearest = np.abs(np.log(focals)[:, None] - middles[None]).argmin(1)
    return sorted((np.flatnonzero(nearest == k) for k in range(len(parts))), key=len, reverse=True)


def refocus(m: Model, angle: float) -> tuple[Model, list[Refocused]]:
    """A doubtful model with the focal lengths that its photos ask for, and which of them are other ones than were said.

    Its lenses are split where they were zoomed; what is other than was said counts as guessed from then on. It has to be
    adjusted to its end; with an empty list nothing is to be changed.
    """
    free = own_focals(m, angle)
    found: list[Refocused] = []
    lens_of, lenses, at, sigma = m.lens_of.copy(), list(m.lenses), list(m.prior.at), list(m.prior.sigma)
    for lens in np.unique(m.lens_of[m.placed]).tolist():
        rows = np.flatnonzero(m.placed & (m.lens_of == lens))
        focals = np.array([free.lenses[int(k)].fx for k in rows])
        said = float(m.prior.at[lens][0])
        for number, group in enumerate(groups_of(focals)):
            focal = float(np.median(focals[group]))
            index = lens if number == 0 else len(lenses)
            camera = _with_focal(m.lenses[lens], focal)
            if index == len(lenses):
                lenses.append(camera)
                at.append(m.prior.at[lens].copy())
                sigma.append(m.prior.sigma[lens].copy())
            other = abs(focal / said - 1) > OTHER
            if number or other:
                lenses[index] = camera
                at[index], sigma[index] = at[index].copy(), sigma[index].copy()
                at[index][0], sigma[index][0] = focal, FOCAL_GUESSED * focal
                lens_of[rows[group]] = index
                found.append(Refocused(tuple(int(k) for k in rows[group]), said, focal))
    if not found:
        return m, []
    free.lens_of, free.lenses = lens_of, lenses
    free.prior = LensPrior(np.array(at), np.array(sigma))
    free.free = np.zeros((len(lenses), 8), bool)
    free._normalised = None
    return free, found


def _with_focal(camera: Camera, focal: float) -> Camera:
    vector = camera.vector
    vector[:2] *= focal / vector[0]
    return camera.with_vector(vector)
