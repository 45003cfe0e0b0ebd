"""The published bundle adjustment problem with 3 cameras and 7 points: its conventions, and the optimum that SciPy finds.

Source: Agarwal, S., Snavely, N., Seitz, S., Szeliski, R. (2010). Bundle adjustment in the large. ECCV; the reduced problem
``dubrovnik-3-7-pre`` as the GTSAM package (BSD) carries it. A camera there is an axis-angle, a translation, f, k1, k2; it looks
along -z with y upwards, pixels count from the middle.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from scipy.optimize import least_squares

from vast_quarry.core.align.bundle import BundleProblem, adjust, residuals_of
from vast_quarry.core.pose import rotation_from_vector

FILE = Path(__file__).parents[1] / "data" / "dubrovnik-3-7-pre.txt"


def published() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Observations (M, 4: camera, point, x, y), cameras (3, 9), points (7, 3)."""
    numbers = np.array(FILE.read_text().split(), float)
    cameras, points, seen = numbers[:3].astype(int)
    observed = numbers[3 : 3 + 4 * seen].reshape(seen, 4)
    rest = numbers[3 + 4 * seen :]
    return observed, rest[: 9 * cameras].reshape(cameras, 9), rest[9 * cameras :].reshape(points, 3)


def as_said(cameras: np.ndarray, points: np.ndarray, observed: np.ndarray) -> np.ndarray:
    """Residuals in pixels by the formula of the paper (M, 2)."""
    out = []
    for c, p, x, y in observed:
        v = cameras[int(c)]
        q = rotation_from_vector(v[:3]) @ points[int(p)] + v[3:6]
        at = -q[:2] / q[2]
        r2 = at @ at
        out.append(v[6] * (1 + v[7] * r2 + v[8] * r2**2) * at - [x, y])
    return np.array(out)


def as_ours(cameras: np.ndarray, points: np.ndarray, observed: np.ndarray) -> BundleProblem:
    """The same with z forwards and y downwards."""
    flip = np.diag([1.0, -1.0, -1.0])
    rotations = np.stack([flip @ rotation_from_vector(v[:3]) for v in cameras])
    centers = np.stack([-rotation_from_vector(v[:3]).T @ v[3:6] for v in cameras])
    lenses = np.stack([[v[6], v[6], 0, 0, v[7], v[8], 0, 0, 0] for v in cameras])
    order = np.lexsort((observed[:, 0], observed[:, 1]))
    rows = observed[order]
    free = np.zeros((len(cameras), 8), bool)
    free[:, [0, 3, 4]] = True  # focal length, k1, k2
    start = np.searchsorted(rows[:, 1], np.arange(len(points) + 1))
    return BundleProblem(
        rotations, centers, lenses, np.arange(len(cameras)), points.copy(), start.astype(np.int64),
        rows[:, 0].astype(np.int64), rows[:, 2:] * [1, -1], np.ones(len(rows)), free,
    )  # fmt: skip


def test_a_published_problem_means_the_same_and_has_the_same_optimum() -> None:
    observed, cameras, points = published()
    assert (len(cameras), len(points), len(observed)) == (3, 7, 19)
    problem = as_ours(cameras, points, observed)
    order = np.lexsort((observed[:, 0], observed[:, 1]))
    np.testing.assert_allclose(
        residuals_of(problem) * [1, -1], as_said(cameras, points, observed[order]), rtol=1e-9, atol=1e-9
    )

    def off(x: np.ndarray) -> np.ndarray:
        return as_said(x[:27].reshape(3, 9), x[27:].reshape(7, 3), observed).ravel()

    best = least_squares(off, np.concatenate([cameras.ravel(), points.ravel()]), x_scale="jac", xtol=1e-15, ftol=1e-15)
    report = adjust(problem, loss=np.inf, iterations=200, tolerance=1e-14)
    # 38 residuals for 41 unknowns: both end at nothing
    first = float((as_said(cameras, points, observed) ** 2).sum())
    assert 2 * best.cost < 1e-6 * first
    assert report.last_cost < 1e-5 * first
