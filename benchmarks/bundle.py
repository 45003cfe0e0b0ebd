"""Bundle adjustment against SciPy and GTSAM on one made-up problem in one run: same optimum, and how many times as fast.

GTSAM (BSD) is no part of the project: ``pip install gtsam`` beside it, or it is left out. Poses and points are solved, the lens
is known to all, plain least squares; the start is 1 % off.

    python benchmarks/bundle.py [--cameras 50] [--points 4000]
"""

from __future__ import annotations

import argparse
import copy
import time

import numpy as np
from scipy.optimize import least_squares
from scipy.sparse import lil_matrix

from vast_quarry.core.align.bundle import BundleProblem, adjust, residuals_of
from vast_quarry.core.camera import Camera, project
from vast_quarry.core.pose import look_at, rotation_from_vector

LENS = Camera.simple(1600, 1200, 1800.0)


def made_up(cameras: int, points: int, seed: int = 3) -> BundleProblem:
    """A walk round: each point seen by the dozen cameras on its side, half a pixel of noise, everything moved a little."""
    rng = np.random.default_rng(seed)
    angles = np.linspace(0, 2 * np.pi, cameras, endpoint=False)
    centers = np.stack([3 * np.cos(angles), 3 * np.sin(angles), 0.8 + 0.3 * np.sin(5 * angles)], 1)
    rotations = np.stack([look_at(c, [0, 0, 0]) for c in centers])
    side = rng.uniform(0, 2 * np.pi, points)
    x = np.stack([0.5 * np.cos(side), 0.5 * np.sin(side), rng.uniform(-0.4, 0.4, points)], 1)
    cam, start, xy = [], [0], []
    for k in range(points):
        near = np.sort(np.argsort(np.abs((angles - side[k] + np.pi) % (2 * np.pi) - np.pi))[:12])
        cam += near.tolist()
        start.append(len(cam))
        xy += [project(LENS, rotations[c], centers[c], x[k : k + 1])[0][0] for c in near]
    seen = np.array(xy) + rng.normal(0, 0.5, (len(xy), 2))
    rotations = np.stack([rotation_from_vector(rng.normal(0, 0.005, 3)) @ r for r in rotations])
    return BundleProblem(
        rotations, centers + rng.normal(0, 0.01, centers.shape), LENS.vector[None], np.zeros(cameras, np.int64),
        x + rng.normal(0, 0.01, x.shape), np.array(start, np.int64), np.array(cam, np.int64), seen, np.ones(len(seen)),
        np.zeros((1, 8), bool),
    )  # fmt: skip


def by_scipy(p: BundleProblem) -> tuple[float, float]:
    """Seconds and cost of SciPy's trust region solver with the sparsity of the Jacobian."""
    n, q, m = len(p.rotations), len(p.points), len(p.xy)
    point = p.point_of
    pattern = lil_matrix((2 * m, 6 * n + 3 * q), dtype=int)
    rows = np.arange(m)
    for k in range(6):
        pattern[2 * rows, 6 * p.cam + k] = pattern[2 * rows + 1, 6 * p.cam + k] = 1
    for k in range(3):
        pattern[2 * rows, 6 * n + 3 * point + k] = pattern[2 * rows + 1, 6 * n + 3 * point + k] = 1

    def off(x: np.ndarray) -> np.ndarray:
        pose, points = x[: 6 * n].reshape(n, 6), x[6 * n :].reshape(q, 3)
        rotations = np.stack([rotation_from_vector(w) @ r for w, r in zip(pose[:, :3], p.rotations)])
        moved = copy.copy(p)
        moved.rotations, moved.centers, moved.points = rotations, p.centers + pose[:, 3:], p.points + points
        return residuals_of(moved).ravel()

    begun = time.perf_counter()
    best = least_squares(
        off,
        np.zeros(6 * n + 3 * q),
        jac_sparsity=pattern,
        x_scale="jac",
        method="trf",
        ftol=1e-9,
        xtol=1e-12,
        gtol=1e-12,
    )
    return time.perf_counter() - begun, float(2 * best.cost)


def by_gtsam(p: BundleProblem) -> tuple[float, float] | None:
    """Seconds and cost of GTSAM's Levenberg-Marquardt; None where it is not installed."""
    try:
        import gtsam
    except ImportError:
        return None
    graph, values = gtsam.NonlinearFactorGraph(), gtsam.Values()
    lens = gtsam.Cal3_S2(LENS.fx, LENS.fy, 0.0, LENS.cx, LENS.cy)
    noise = gtsam.noiseModel.Isotropic.Sigma(2, 1.0)
    camera, place = gtsam.symbol_shorthand.X, gtsam.symbol_shorthand.L
    for k, (r, c) in enumerate(zip(p.rotations, p.centers)):
        values.insert(camera(k), gtsam.Pose3(gtsam.Rot3(r.T), c))
    for k, x in enumerate(p.points):
        values.insert(place(k), x)
    for m, (k, j) in enumerate(zip(p.cam, p.point_of)):
        graph.add(gtsam.GenericProjectionFactorCal3_S2(p.xy[m], noise, camera(int(k)), place(int(j)), lens))
    # the gauge is held where it stands: it has no pull on the optimum
    for k in (0, len(p.rotations) // 2):
        graph.add(
            gtsam.PriorFactorPose3(camera(k), values.atPose3(camera(k)), gtsam.noiseModel.Isotropic.Sigma(6, 1e3))
        )
    begun = time.perf_counter()
    parameters = gtsam.LevenbergMarquardtParams()
    parameters.setRelativeErrorTol(1e-9)
    parameters.setAbsoluteErrorTol(1e-9)
    result = gtsam.LevenbergMarquardtOptimizer(graph, values, parameters).optimize()
    return time.perf_counter() - begun, 2 * graph.error(result)


def main() -> None:
    """Print the table."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--cameras", type=int, default=50)
    options.add_argument("--points", type=int, default=4000)
    chosen = options.parse_args()
    problem = made_up(chosen.cameras, chosen.points)
    adjust(copy.deepcopy(problem), np.inf, 2)  # compiled
    mine = copy.deepcopy(problem)
    begun = time.perf_counter()
    report = adjust(mine, np.inf, 50, 1e-9)
    ours = time.perf_counter() - begun
    print(f"{chosen.cameras} cameras, {chosen.points} points, {len(problem.xy)} observations")
    print(f"ours   {ours:8.2f} s  cost {report.last_cost:.6f}  {report.iterations} iterations")
    for name, found in (("SciPy", by_scipy(copy.deepcopy(problem))), ("GTSAM", by_gtsam(problem))):
        if found is None:
            print(f"{name:6} is not installed")
            continue
        off = found[1] / report.last_cost - 1
        print(f"{name:6} {found[0]:8.2f} s  cost {found[1]:.6f}  {found[0] / ours:.1f} times as long, cost {off:+.1e}")


if __name__ == "__main__":
    main()
