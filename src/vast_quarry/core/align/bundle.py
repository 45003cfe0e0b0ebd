"""Bundle adjustment: poses, points and shared lenses together, by Levenberg-Marquardt on the Schur complement.

Minimises ``sum_m rho(w_m |r_m|^2)`` plus the lens prior, where ``r_m`` is the reprojection residual in pixels, ``w_m`` the
inverse variance expected of it and ``rho`` the Cauchy loss ``rho(s) = c^2 log(1 + s / c^2)`` (so that ``c`` counts in sigmas),
by iteratively reweighted least squares: each step solves::

    [ U   W ] [dc]     [gc]        S = U - W V^-1 W^T
    [ W^T V ] [dp] = - [gp]        S dc = -(gc - W V^-1 gp),   dp = -V^-1 (gp + W^T dc)

``V`` is block diagonal by points, so ``S`` (poses and lenses) is built point by point. The diagonals of U and V are
multiplied by ``1 + lambda``. The gauge stays free: the damping holds it.

References
----------
Triggs, B., McLauchlan, P., Hartley, R., Fitzgibbon, A. (2000). Bundle adjustment - a modern synthesis. LNCS 1883.
Lourakis, M., Argyros, A. (2009). SBA: a software package for generic sparse bundle adjustment. ACM TOMS 36(1).
Marquardt, D. (1963). An algorithm for least-squares estimation of nonlinear parameters. SIAM J. 11(2).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from vast_quarry.core.align import bundle_kernels as kernels
from vast_quarry.core.align.lens import LENS_COLUMNS, LensPrior, unknowns
from vast_quarry.core.pose import rotation_from_vector

Array = NDArray[np.float64]


@dataclass
class BundleProblem:
    """What is adjusted.

    Attributes
    ----------
    rotations : (n, 3, 3), centers : (n, 3)
    lenses : (g, 9)
        In the order of ``camera.INTRINSICS``.
    lens_of : (n,) int
    points : (P, 3)
    start : (P + 1,) int
        Observations of point p are ``start[p]:start[p + 1]``.
    cam : (M,) int
    xy : (M, 2)
        Measured pixels.
    weight : (M,)
        Inverse variance of each observation along each axis (1 / pixels squared).
    free : (g, 8) bool
        Lens unknowns that may change.
    prior : LensPrior, optional
        Where the lens unknowns are expected.
    """

    rotations: Array
    centers: Array
    lenses: Array
    lens_of: NDArray[np.int64]
    points: Array
    start: NDArray[np.int64]
    cam: NDArray[np.int64]
    xy: Array
    weight: Array
    free: NDArray[np.bool_]
    prior: LensPrior | None = None

    @property
    def point_of(self) -> NDArray[np.int64]:
        """Point of each observation (M,)."""
        return np.repeat(np.arange(len(self.points)), np.diff(self.start))


@dataclass
class BundleReport:
    """How it went: iterations, robust cost before and after, RMS residual in pixels after."""

    iterations: int
    first_cost: float
    last_cost: float
    rms: float


def _moved(problem: BundleProblem, step: Array, points: Array) -> tuple[Array, Array, Array, Array]:
    """Poses, lenses and points after a step."""
    n = len(problem.rotations)
    pose = step[: 6 * n].reshape(n, 6)
    rotations = np.stack([rotation_from_vector(w) @ r for w, r in zip(pose[:, :3], problem.rotations)])
    lens = problem.lenses.copy()
    change = step[6 * n :].reshape(len(lens), 8)
    lens[:, 1] *= (lens[:, 0] + change[:, 0]) / lens[:, 0]
    lens[:, 0] += change[:, 0]
    lens[:, LENS_COLUMNS] += change[:, 1:]
    return rotations, problem.centers + pose[:, 3:], lens, problem.points + points


def adjust(
    problem: BundleProblem,
    loss: float = 2.0,
    iterations: int = 30,
    tolerance: float = 1e-5,
    prior_weight: float = 1.0,
    check: Callable[[], None] = lambda: None,
    still: float = 0.0,
) -> BundleReport:
    """Adjust a problem in place.

    Parameters
    ----------
    problem : BundleProblem
    loss : float
        Scale ``c`` of the Cauchy loss in sigmas; ``inf`` for plain least squares.
    iterations : int
        Most steps tried.
    tolerance : float
        Stops when a step lowers the cost by less than this share.
    prior_weight : float
        Weight of the problem's prior on lenses against the observations; 0 for none.
    check : callable
        Called once an iteration; may raise to cancel.
    still : float
        Stops too when a step moves cameras and lenses by less than this, the square of its length in sigmas: what a robust loss
        goes on to gain then is points with hardly any parallax, sliding along their rays.
    """
    n, groups = len(problem.rotations), len(problem.lenses)
    point_of = problem.point_of
    fixed = np.flatnonzero(np.concatenate([np.zeros(6 * n, bool), ~problem.free.ravel()]))
    if problem.prior is None:
        prior_weight, expected, sigma = 0.0, np.zeros((groups, 8)), np.ones((groups, 8))
    else:
        expected, sigma = problem.prior.at, problem.prior.sigma

    def prior(lens: Array) -> Array:
        """Deviation of the lens unknowns from where they are expected, (g, 8)."""
        return unknowns(lens) - expected

    def cost_of(r: Array, lens: Array) -> tuple[float, Array]:
        s = (r * r).sum(1) * problem.weight
        extra = prior_weight * float(((prior(lens) / sigma) ** 2).sum())
        if np.isinf(loss):
            return float(s.sum()) + extra, problem.weight
        return float((loss**2 * np.log1p(s / loss**2)).sum()) + extra, problem.weight / (1.0 + s / loss**2)

    r = residuals_of(problem)
    cost, weight = cost_of(r, problem.lenses)
    first_cost, damping, done = cost, 1e-4, 0
    for _ in range(iterations):
        check()
        done += 1
        state = (problem.rotations, problem.centers, problem.lenses, problem.lens_of, problem.points)
        system = (problem.start, problem.cam, problem.xy, weight, damping)
        A, b, diagonal = kernels.reduced_system(*state, *system)
        A[np.arange(len(b)), np.arange(len(b))] += damping * diagonal + 1e-12
        lens_diagonal = np.arange(6 * n, len(b))
        A[lens_diagonal, lens_diagonal] += prior_weight / sigma.ravel() ** 2
        b[6 * n :] -= prior_weight * (prior(problem.lenses) / sigma**2).ravel()
        A[fixed, :] = 0.0
        A[:, fixed] = 0.0
        A[fixed, fixed] = 1.0
        b[fixed] = 0.0
        try:
            step = scipy.linalg.cho_solve(scipy.linalg.cho_factor(A, lower=False, overwrite_a=True), b)
        except (np.linalg.LinAlgError, ValueError):
            damping *= 10.0
            if damping > 1e8:
                break
            continue
        moved = _moved(problem, step, kernels.point_steps(*state, *system, step))
        r_new, _ = kernels.residuals(*moved[:3], problem.lens_of, moved[3], problem.cam, point_of, problem.xy)
        new_cost, new_weight = cost_of(r_new, moved[2])
        if np.isfinite(new_cost) and new_cost < cost and (moved[2][:, 0] > 0).all():
            gain = (cost - new_cost) / max(cost, 1e-300)
            problem.rotations, problem.centers, problem.lenses, problem.points = moved
            cost, weight, r = new_cost, new_weight, r_new
            damping = max(damping / 5.0, 1e-12)
            if gain < tolerance or float(b @ step) < still:
                break
        else:
            damping *= 4.0
            if damping > 1e8:
                break
    rms = float(np.sqrt((r * r).sum(1).mean())) if len(r) else 0.0
    return BundleReport(done, first_cost, cost, rms)


def residuals_of(problem: BundleProblem) -> Array:
    """Reprojection residuals (M, 2) in pixels where the problem stands."""
    state = (problem.rotations, problem.centers, problem.lenses, problem.lens_of, problem.points)
    return np.asarray(kernels.residuals(*state, problem.cam, problem.point_of, problem.xy)[0])


def reduced(problem: BundleProblem, loss: float = 2.0) -> Array:
    """Upper triangle of the undamped reduced system (D, D) of all poses and all lens unknowns, where the problem stands."""
    state = (problem.rotations, problem.centers, problem.lenses, problem.lens_of, problem.points)
    r = residuals_of(problem)
    s = (r * r).sum(1) * problem.weight
    weight = problem.weight / (1.0 + s / loss**2)
    system = (problem.start, problem.cam, problem.xy, weight)
    return np.asarray(kernels.reduced_system(*state, *system, 0.0)[0])
