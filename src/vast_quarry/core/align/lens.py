"""What is known of a lens beforehand, which of its unknowns the photos determine, and what is therefore solved.

A weak geometry can explain small errors by an absurd lens: on an arc of 15 degrees a focal length that is 20 % off with a
corner moved by a quarter costs less than a few false matches. So each lens has a prior that stays where it is for the whole
solution, and an unknown is set free only when the photos know it better than the prior does:

* the information of the photos about all lens unknowns is the Schur complement of the normal equations onto them,
  ``L = S_ll - S_lp S_pp^-1 S_pl`` (the free gauge drops out of it);
* errors of many observations are not independent: what the model does not fit leans the same way wherever it falls on the
  picture. How much they hang together is measured (:func:`independent_share`), ``L`` is counted as that of so many fewer
  observations, and the prior keeps its weight against the number that is left;
* unknowns are taken in order (focal length, k1, principal point, k2, decentring, k3), and one is solved when its standard
  deviation given all that are solved is below :data:`DECIDED` of the prior's, without making an earlier one unsure.

References
----------
Triggs, B. (1998). Autocalibration from planar scenes. ECCV (what planes and short arcs cannot tell).
Kish, L. (1965). Survey Sampling, ch. 5 (design effect of clusters).
Foerstner, W., Wrobel, B. (2016). Photogrammetric Computer Vision, ch. 15 (self-calibration, determinability of unknowns).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera

Array = NDArray[np.float64]

#: what of a lens can be free, in the order of its eight unknowns
LENS_UNKNOWNS = ("f", "cx", "cy", "k1", "k2", "k3", "p1", "p2")
#: columns of the lens vector (see camera.INTRINSICS) that the unknowns after f stand for
LENS_COLUMNS = np.array([2, 3, 4, 5, 6, 7, 8])
#: how sure a focal length is: read from the photo, or guessed (share of it, one standard deviation)
FOCAL_READ, FOCAL_GUESSED = 0.03, 0.25
#: how far the axis may miss the middle, as a share of the longer side
AXIS = 0.015
#: how far k1, k2, k3 and decentring each move a corner, as a share of its distance from the middle (one standard deviation)
CORNER = {"k1": 0.008, "k2": 0.012, "k3": 0.006, "p": 0.003}
#: and by how much k1 of most lenses draws it in: of cheap wide ones up to 5 % (common practice, no source)
BARREL = 0.016
#: an unknown is solved when the photos know it this much better than the prior
DECIDED, STAYS = 0.5, 0.8
#: order in which unknowns are set free; what stands together is freed together
_ORDER = (("f",), ("k1",), ("cx", "cy"), ("k2",), ("p1", "p2"), ("k3",))
#: places of a picture whose errors count as independent: cells along its longer side
CELLS = 8


@dataclass(frozen=True)
class LensPrior:
    """Where the unknowns of each lens are expected, (g, 8) in the order of :data:`LENS_UNKNOWNS`, and their sigmas."""

    at: Array
    sigma: Array


def unknowns(lens: Array) -> Array:
    """Lens vectors (g, 9) as their eight unknowns (g, 8)."""
    return np.concatenate([lens[:, :1], lens[:, LENS_COLUMNS]], axis=1)


def prior_of(lenses: list[Camera], guessed: list[bool]) -> LensPrior:
    """The prior of lenses whose focal lengths were read from the photos or guessed."""
    rows = []
    for camera, guess in zip(lenses, guessed):
        f = camera.fx
        # k1 r^3 / r at the corner is what k1 moves it by
        r = 0.5 * float(np.hypot(camera.width, camera.height)) / f
        axis = AXIS * max(camera.width, camera.height)
        k = [CORNER["k1"] / r**2, CORNER["k2"] / r**4, CORNER["k3"] / r**6]
        rows.append([f * (FOCAL_GUESSED if guess else FOCAL_READ), axis, axis, *k, CORNER["p"] / r, CORNER["p"] / r])
    at = unknowns(np.stack([c.vector for c in lenses]))
    sigma = np.array(rows)
    # of a lens that says nothing of itself: barrels are common, pincushions rare
    at[:, 3] -= np.where(guessed, BARREL / CORNER["k1"] * sigma[:, 3], 0)
    return LensPrior(at, sigma)


def independent_share(
    cam: NDArray[np.int64],
    lens_of: NDArray[np.int64],
    xy: Array,
    sizes: NDArray[np.int64],
    track: NDArray[np.int64],
    white: Array,
) -> float:
    """Share of observations that counts as independent: one over the design effect of clusters of residuals.

    Residuals that are independent have a mean over n of them whose variance is 1 / n. Where the model does not fit, those of
    one place of the picture lean the same way, in one photo (it moved while its rows were read) or in all of a lens (its
    distortion is another): then the mean is larger, and the observations count as so many fewer. And of a place that many
    photos follow as many count as three of them would give: what its surroundings do to it they all share.

    Parameters
    ----------
    cam : (M,) photo, xy : (M, 2) pixel
    lens_of : (n,) int
    sizes : (n, 2) int
        Width and height of the photos.
    track : (M,) int
    white : (M, 2)
        Residuals in sigmas.
    """
    if not len(cam):
        return 1.0
    cell = sizes[cam].max(1) / CELLS
    place = (xy // cell[:, None]).astype(np.int64).clip(0, 63) @ [64, 1]
    bounded = white * np.minimum(1.0, 3.0 / np.maximum(np.linalg.norm(white, axis=1, keepdims=True), 1e-9))
    spread = float((bounded**2).mean())
    worst = 1.0
    for cluster in (cam, lens_of[cam]):
        _, at, count = np.unique(cluster * 4096 + place, return_inverse=True, return_counts=True)
        total = np.stack([np.bincount(at, bounded[:, k], minlength=len(count)) for k in (0, 1)], 1)
        some = count >= 4
        if some.any():
            effect = (total[some] ** 2).sum(1) / (2 * spread * count[some])
            worst = max(worst, float(np.average(effect, weights=count[some])))
    _, seen = np.unique(track, return_counts=True)
    return float(np.minimum(seen, 3).sum() / seen.sum()) / worst


def lens_information(S: Array, poses: int) -> Array:
    """Information (8 g, 8 g) about the lens unknowns once poses are eliminated.

    Parameters
    ----------
    S : (D, D)
        Upper triangle of the undamped reduced system, poses first (see :mod:`.bundle`).
    poses : int
        Number of unknowns that are poses.
    """
    full = np.triu(S) + np.triu(S, 1).T
    pose, cross, lens = full[:poses, :poses], full[:poses, poses:], full[poses:, poses:]
    scale = 1.0 / np.sqrt(np.maximum(np.diag(pose), 1e-30))
    # the gauge leaves seven directions without information: a ridge keeps them from mattering
    scaled = pose * scale[:, None] * scale[None] + 1e-9 * np.eye(poses)
    right = cross * scale[:, None]
    return np.asarray(lens - right.T @ np.linalg.solve(scaled, right))


def decided(information: Array, sigma: Array, free: NDArray[np.bool_] | None = None) -> NDArray[np.bool_]:
    """Which unknowns of each lens (g, 8) the photos determine better than the prior.

    Parameters
    ----------
    information : (8 g, 8 g)
        Of the photos about all unknowns, in units of independent observations.
    sigma : (g, 8)
        Of the prior.
    free : (g, 8) bool, optional
        What is solved already: it stays so unless it became clearly unsure, since letting go of it jolts the rest.
    """
    already = np.zeros(sigma.size, bool) if free is None else free.ravel()
    groups = len(sigma)
    flat = sigma.ravel()
    scaled = information * flat[:, None] * flat[None]
    chosen: list[int] = []
    for names in _ORDER:
        for g in range(groups):
            if names[0] == "p1" and 8 * g + LENS_UNKNOWNS.index("cx") not in chosen:
                continue  # decentring does nearly what a shift of the axis does
            more = [8 * g + LENS_UNKNOWNS.index(n) for n in names]
            trial = chosen + more
            block = scaled[np.ix_(trial, trial)]
            values, vectors = np.linalg.eigh((block + block.T) / 2)
            variance = (vectors**2 / np.maximum(values, 1e-12)).sum(1)
            if (variance < np.where(already[trial], STAYS, DECIDED) ** 2).all():
                chosen = trial
    out = np.zeros(8 * groups, bool)
    out[chosen] = True
    return out.reshape(groups, 8)
