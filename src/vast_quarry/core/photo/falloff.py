"""How a lens darkens the corners of its photos: from the lens database, or from the same places seen near and far from the middle.

The falloff is told in stops, ``c2 r^2 + c4 r^4 + c6 r^6``, with r = 1 in the corner. A feature that one photo has near its
middle and another near its corner says how much darker the corner is; many of them, over many pairs of photos, give the curve
by least squares, with those that disagree (shine, shade, wrong matches) weighed down (Huber).

References
----------
Goldman, D., Chen, J. (2005). Vignette and exposure calibration and compensation. ICCV: the even polynomial, and that exposure
and falloff can be told apart from overlapping photos. The lens database has ``1 + k1 r^2 + k2 r^4 + k3 r^6``.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Falloff = tuple[float, float, float]

#: features that say something, at least; how far from the middle some of them must lie, for nothing is said of what lies beyond
ENOUGH, REACH = 300, 0.75
#: largest standard error of what the corner loses (stops)
UNSURE = 0.06
#: stops by which a feature may miss the curve before it counts less
HUBER = 0.15
#: no lens brightens its corners, and none in use takes away more (stops)
MOST = 4.0


@dataclass(frozen=True)
class Estimate:
    """A falloff with what it rests on: features used, and the standard error (stops) of its value in the corner."""

    falloff: Falloff
    features: int
    error: float


def stops_at(falloff: Falloff, r: Array) -> Array:
    """Stops that a lens takes away at a distance from the middle; r = 1 is the corner."""
    r2 = np.asarray(r, float) ** 2
    return np.asarray(falloff[0] * r2 + falloff[1] * r2**2 + falloff[2] * r2**3, float)


def fit_falloff(r: Array, share: Array) -> Falloff:
    """The curve through shares of light (0 to 1, one in the middle) at distances r."""
    r2 = np.asarray(r, float) ** 2
    lost = -np.log2(np.maximum(np.asarray(share, float), 1e-3))
    c = np.linalg.lstsq(np.stack([r2, r2**2, r2**3], axis=1), lost, rcond=None)[0]
    return float(c[0]), float(c[1]), float(c[2])


def far_from_middle(xy: NDArray[np.float32], width: int, height: int) -> NDArray[np.float32]:
    """Distance of places (K, 2) from the middle of a picture; the corner is 1."""
    middle = np.array([(width - 1) / 2, (height - 1) / 2])
    return np.asarray(np.linalg.norm(xy - middle, axis=1) / np.hypot(*middle), np.float32)


def estimate_falloff(
    pairs: Sequence[tuple[int, int]], brighter: Mapping[tuple[int, int], Array], far: Mapping[tuple[int, int], Array]
) -> Estimate | None:
    """Falloff of the lens that took all photos of the pairs.

    Parameters
    ----------
    pairs : sequence of (i, j)
    brighter : mapping
        For each pair (K,): stops that each common feature is brighter in i than in j.
    far : mapping
        For each pair (K, 2): how far it lies from the middle of i and of j.

    Returns
    -------
    Estimate or None
        None where too few features, or none near the corners, say something, or what they say is no falloff.
    """
    d, x, of, reach = [], [], [], 0.0
    for n, pair in enumerate(pairs):
        r2 = np.asarray(far[pair], float) ** 2
        d.append(np.asarray(brighter[pair], float))
        x.append(np.stack([r2[:, 1] - r2[:, 0], r2[:, 1] ** 2 - r2[:, 0] ** 2], axis=1))
        of.append(np.full(len(r2), n))
        reach = max(reach, float(np.percentile(far[pair], 98)))
    if not d:
        return None
    y, a, row = np.concatenate(d), np.concatenate(x), np.concatenate(of)
    if len(y) < ENOUGH or reach < REACH:
        return None
    weight = np.ones(len(y))
    c = np.zeros(2)
    spread = np.eye(2)
    for _ in range(12):
        # what the two photos differ by as a whole is exposure: each pair keeps its own
        sums = np.bincount(row, weight)
        middle = np.bincount(row, weight * y) / sums
        centre = np.stack([np.bincount(row, weight * a[:, k]) / sums for k in (0, 1)], axis=1)
        yy, aa = y - middle[row], a - centre[row]
        normal = (aa * weight[:, None]).T @ aa
        # the two terms look much alike over the middle of a picture: the higher one is held back a little
        spread = np.linalg.inv(normal + np.diag([1e-6, 0.002]) * len(y))
        c = np.asarray(spread @ ((aa * weight[:, None]).T @ yy))
        miss = np.abs(yy - aa @ c)
        weight = np.minimum(1.0, HUBER / np.maximum(miss, 1e-9))
    noise = float(np.median(np.minimum(miss, 1.0))) * 1.4826
    corner = float(np.sqrt(np.ones(2) @ spread @ np.ones(2))) * noise
    curve: Falloff = (float(c[0]), float(c[1]), 0.0)
    lost = stops_at(curve, np.linspace(0, 1, 11))
    if lost.min() < -0.1 or lost.max() > MOST or corner > UNSURE:
        return None
    return Estimate(curve, len(y), corner)
