"""How precisely cameras and points are known: covariances from the reduced system.

With the normal matrix ``[U W; W^T V]`` of the adjustment (see :mod:`.bundle`), undamped and without the robust weights, its
inverse over cameras and lenses is ``S^-1`` with ``S = U - W V^-1 W^T``; over a point it is
``V^-1 + V^-1 W^T S^-1 W V^-1``. ``S`` is singular by seven, since nothing says where the whole stands, how it is turned and
how large it is. That is fixed by inner constraints on the camera centres: their covariance is that of what a similarity
fitted to the centres leaves. Numerically ``(S + G G^T)^-1 - G G^T`` for an orthonormal basis ``G`` of the seven is one inverse,
and Baarda's S-transformation takes it to that datum.

The variance factor is measured, not assumed: for a robust adjustment that minimises ``rho(|r|^2 / sigma^2)``, whose influence
is ``psi``, the covariance is ``K^2 E[psi^2] / E[psi']^2`` times that inverse (Huber's sandwich), both means taken over the
residuals, the first over those that the unknowns leave; ``K`` corrects for how unevenly ``psi'`` falls on them.

References
----------
Baarda, W. (1973). S-transformations and criterion matrices. Netherlands Geodetic Commission 5(1).
Huber, P. (1981). Robust Statistics, ch. 7.6 (asymptotic covariance of regression).
Triggs, B., McLauchlan, P., Hartley, R., Fitzgibbon, A. (2000). Bundle adjustment - a modern synthesis, sec. 9 (gauge).
Foerstner, W., Wrobel, B. (2016). Photogrammetric Computer Vision, ch. 4.5 (free gauge, inner constraints).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.linalg
from numba import njit, prange
from numpy.typing import NDArray

from vast_quarry.core.align import bundle_kernels as kernels
from vast_quarry.core.align.bundle import BundleProblem, residuals_of
from vast_quarry.core.pose import skew

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Precision:
    """Covariances of an adjustment.

    Attributes
    ----------
    cameras : (n, 6, 6)
        Of each camera: turns about its own axes (radians), then its centre.
    lenses : (g, 8, 8)
        Of each lens: ``f, cx, cy, k1, k2, k3, p1, p2``; zero for what was held.
    points : (P, 3, 3)
    factor : float
        Measured variance factor that they are multiplied by.
    """

    cameras: Array
    lenses: Array
    points: Array
    factor: float

    @property
    def center_sigma(self) -> Array:
        """Standard deviation of each centre (n,): root of the mean of its three variances."""
        return np.sqrt(np.trace(self.cameras[:, 3:, 3:], axis1=1, axis2=2) / 3)

    @property
    def point_sigma(self) -> Array:
        """The same of each point (P,)."""
        return np.sqrt(np.trace(self.points, axis1=1, axis2=2) / 3)


def variance_factor(residuals: Array, weight: Array, loss: float, unknowns: int) -> float:
    """Measured factor of the covariance of a robust adjustment, from residuals (M, 2) in pixels.

    ``weight`` (M,) are inverse variances, ``loss`` the scale of the Cauchy loss in sigmas.
    """
    s = (residuals**2).sum(1) * weight
    if not len(s):
        return 1.0
    taken = min(unknowns / (2 * len(s)), 0.9)
    u = s / loss**2
    slopes = 1 / (1 + u) ** 2
    slope = float(slopes.mean())
    influence = float((s * slopes).mean()) / 2 / (1 - taken)
    correction = 1 + taken * float(slopes.var()) / slope**2
    return correction**2 * influence / slope**2


def gauge(rotations: Array, centers: Array, groups: int) -> Array:
    """The seven directions (6 n + 8 g, 7) in which cameras can move together without anything changing."""
    n = len(rotations)
    out = np.zeros((6 * n + 8 * groups, 7))
    middle = centers - centers.mean(0)
    for i in range(n):
        turn, center = slice(6 * i, 6 * i + 3), slice(6 * i + 3, 6 * i + 6)
        out[center, :3] = np.eye(3)
        out[center, 3:6] = -skew(middle[i])  # w x c = -c x w
        out[turn, 3:6] = -rotations[i]
        out[center, 6] = middle[i]
    return out


def precision_of(problem: BundleProblem, loss: float, prior_weight: float = 0.0) -> Precision:
    """Covariances where an adjusted problem stands.

    Parameters
    ----------
    problem : BundleProblem
        At its optimum, with the observations that took part.
    loss : float
        Scale of the Cauchy loss in sigmas that it was adjusted with.
    prior_weight : float
        Weight that its lens prior had.
    """
    n, groups = len(problem.rotations), len(problem.lenses)
    state = (problem.rotations, problem.centers, problem.lenses, problem.lens_of, problem.points)
    system = (problem.start, problem.cam, problem.xy, problem.weight, 0.0)
    S = np.triu(kernels.reduced_system(*state, *system)[0])
    S = S + np.triu(S, 1).T
    if problem.prior is not None and prior_weight > 0:
        at = np.arange(6 * n, len(S))
        S[at, at] += prior_weight / problem.prior.sigma.ravel() ** 2
    keep = np.concatenate([np.ones(6 * n, bool), problem.free.ravel()])
    index = np.flatnonzero(keep)
    moves = gauge(problem.rotations, problem.centers, groups)[index]
    # turns count in radians and centres in lengths: alike after scaling by what each is known
    scale = 1.0 / np.sqrt(np.maximum(np.diag(S)[index], 1e-30))
    scaled = S[np.ix_(index, index)] * scale[:, None] * scale[None]
    basis, _ = np.linalg.qr(moves / scale[:, None])
    inverse = scipy.linalg.inv(scaled + basis @ basis.T) - basis @ basis.T
    inverse *= scale[:, None] * scale[None]
    inverse = _onto_centers(inverse, moves, n)
    used = len(index) + 3 * len(problem.points) - 7
    factor = variance_factor(residuals_of(problem), problem.weight, loss, used)
    full = np.zeros((len(keep), len(keep)))
    full[np.ix_(index, index)] = inverse
    points = _points(*state, problem.start, problem.cam, problem.xy, problem.weight, full, problem.free)
    blocks = np.stack([full[6 * i : 6 * i + 6, 6 * i : 6 * i + 6] for i in range(n)])
    lenses = np.stack([full[a : a + 8, a : a + 8] for a in range(6 * n, len(full), 8)])
    return Precision(factor * blocks, factor * lenses, factor * points, factor)


def _onto_centers(covariance: Array, moves: Array, cameras: int) -> Array:
    """S-transformation of a covariance (D, D) to the datum in which all centres together neither move, turn nor grow."""
    held = moves.copy()
    rows = np.arange(len(moves))
    held[(rows >= 6 * cameras) | (rows % 6 < 3)] = 0.0
    across = np.eye(len(moves)) - moves @ np.linalg.solve(held.T @ moves, held.T)
    return np.asarray(across @ covariance @ across.T)


@njit(error_model="numpy", cache=True, parallel=True)
def _points(R, C, lens, lens_of, X, start, cam, xy, weight, covariance, free):
    """Covariance (P, 3, 3) of every point, given that (D, D) of cameras and lenses, without the variance factor.

    Unknowns are those of :func:`.bundle_kernels.reduced_system`.
    """
    n = R.shape[0]
    out = np.zeros((X.shape[0], 3, 3))
    for p in prange(X.shape[0]):
        s0 = start[p]
        count = start[p + 1] - s0
        if count < 2:
            continue
        jc = np.empty((2, 6))
        jl = np.empty((2, 8))
        jp = np.empty((2, 3))
        V = np.zeros((3, 3))
        # what the point depends on: rows of W^T, 6 for each observation, then 8 for each lens that took part
        W = np.zeros((14 * count, 3))
        at = np.empty(14 * count, np.int64)
        kinds = np.empty(count, np.int64)
        lenses = 0
        for o in range(count):
            m = s0 + o
            i = cam[m]
            k = lens_of[i]
            kernels.jacobian(R[i], C[i], lens[k], X[p], xy[m, 0], xy[m, 1], jc, jl, jp)
            for a in range(3):
                for b in range(3):
                    V[a, b] += weight[m] * (jp[0, a] * jp[0, b] + jp[1, a] * jp[1, b])
            for a in range(6):
                at[6 * o + a] = 6 * i + a
                for b in range(3):
                    W[6 * o + a, b] = weight[m] * (jc[0, a] * jp[0, b] + jc[1, a] * jp[1, b])
            place = 0
            while place < lenses and kinds[place] != k:
                place += 1
            if place == lenses:
                kinds[place] = k
                lenses += 1
            for a in range(8):
                at[6 * count + 8 * place + a] = 6 * n + 8 * k + a
                if free[k, a]:
                    for b in range(3):
                        W[6 * count + 8 * place + a, b] += weight[m] * (jl[0, a] * jp[0, b] + jl[1, a] * jp[1, b])
        scale = 1e-12 * (V[0, 0] + V[1, 1] + V[2, 2]) + 1e-300
        for a in range(3):
            V[a, a] += scale
        Vi = np.linalg.inv(V)
        rows = 6 * count + 8 * lenses
        B = W[:rows] @ Vi
        inner = np.zeros((3, 3))
        for a in range(rows):
            t0 = t1 = t2 = 0.0
            for b in range(rows):
                c = covariance[at[a], at[b]]
                t0 += c * B[b, 0]
                t1 += c * B[b, 1]
                t2 += c * B[b, 2]
            for u in range(3):
                inner[u, 0] += B[a, u] * t0
                inner[u, 1] += B[a, u] * t1
                inner[u, 2] += B[a, u] * t2
        for u in range(3):
            for v in range(3):
                out[p, u, v] = Vi[u, v] + inner[u, v]
    return out
