"""The bundle adjustment against finite differences, SciPy and a known truth."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import least_squares

from vast_quarry.core.align import bundle_kernels as kernels
from vast_quarry.core.align.bundle import BundleProblem, adjust
from vast_quarry.core.align.precision import precision_of
from vast_quarry.core.align.tracks import CELLS, LONG, Tracks, build_tracks, some_tracks
from vast_quarry.core.align.triangulate import triangulate
from vast_quarry.core.camera import Camera, project, undistort
from vast_quarry.core.pose import fit_similarity, look_at, rotation_from_vector

LENS = Camera(800, 600, 900.0, 900.0, 402.0, 297.0, -0.08, 0.03, 0.0, 0.0005, -0.0003)


def scene(rng: np.random.Generator, cameras: int = 8, points: int = 120, noise: float = 0.0) -> BundleProblem:
    """Cameras on a half circle, all seeing all points."""
    angles = np.linspace(0, np.pi, cameras)
    centers = np.stack([3 * np.cos(angles), 3 * np.sin(angles), 1 + 0.3 * np.sin(3 * angles)], 1)
    rotations = np.stack([look_at(c, [0, 0, 0]) for c in centers])
    x = rng.uniform(-0.6, 0.6, (points, 3))
    xy = np.stack([project(LENS, r, c, x)[0] for r, c in zip(rotations, centers)], 1).reshape(-1, 2)
    xy += rng.normal(0, noise, xy.shape)
    return BundleProblem(
        rotations, centers, LENS.vector[None], np.zeros(cameras, np.int64), x,
        np.arange(points + 1) * cameras, np.tile(np.arange(cameras), points), xy, np.ones(len(xy)), np.ones((1, 8), bool),
    )  # fmt: skip


def shaken(p: BundleProblem, rng: np.random.Generator, amount: float = 0.01) -> BundleProblem:
    p.rotations = np.stack([rotation_from_vector(rng.normal(0, amount, 3)) @ r for r in p.rotations])
    p.centers = p.centers + rng.normal(0, amount, p.centers.shape)
    p.points = p.points + rng.normal(0, amount, p.points.shape)
    p.lenses = p.lenses.copy()
    p.lenses[0, :2] *= 1.02
    p.lenses[0, 4:] = 0
    return p


def test_jacobian_against_finite_differences(rng: np.random.Generator) -> None:
    p = scene(rng)
    lens, x, r, c = p.lenses[0].copy(), p.points[0], p.rotations[2], p.centers[2]
    jc, jl, jp = np.empty((2, 6)), np.empty((2, 8)), np.empty((2, 3))
    kernels.jacobian(r, c, lens, x, 0.0, 0.0, jc, jl, jp)

    def f(step: np.ndarray) -> np.ndarray:
        moved = lens.copy()
        moved[1] *= (lens[0] + step[6]) / lens[0]
        moved[0] += step[6]
        moved[2:] += step[7:14]
        k = Camera.simple(800, 600, 1.0).with_vector(moved)
        return project(k, rotation_from_vector(step[:3]) @ r, c + step[3:6], (x + step[14:])[None])[0][0]

    h = 1e-6
    numeric = np.stack([(f(h * e) - f(-h * e)) / (2 * h) for e in np.eye(17)], 1)
    np.testing.assert_allclose(np.concatenate([jc, jl, jp], 1), numeric, rtol=2e-5, atol=2e-5)


def test_the_reduced_system_is_the_schur_complement_of_the_whole(
    rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Against the normal matrix written out: also in several parts, with photos in any order and one that a point has twice."""
    p = shaken(scene(rng, cameras=5, points=30, noise=0.3), rng)
    p.lens_of = np.array([0, 1, 0, 1, 1])
    p.lenses = np.stack([p.lenses[0], p.lenses[0] * 1.01])
    cam = p.cam.reshape(30, 5).copy()
    for row in cam:
        rng.shuffle(row)
    cam[3, 1] = cam[3, 0]
    cam, weight, damping = cam.ravel(), rng.uniform(0.5, 2, 150), 1e-3
    size = 5 * 6 + 2 * 8
    jacobian, right = np.zeros((300, size + 90)), np.zeros(300)
    jc, jl, jp = np.empty((2, 6)), np.empty((2, 8)), np.empty((2, 3))
    for m in range(150):
        i, k = cam[m], p.lens_of[cam[m]]
        x = p.points[m // 5]
        r = kernels.jacobian(p.rotations[i], p.centers[i], p.lenses[k], x, p.xy[m, 0], p.xy[m, 1], jc, jl, jp)
        rows, root = slice(2 * m, 2 * m + 2), np.sqrt(weight[m])
        jacobian[rows, 6 * i : 6 * i + 6], jacobian[rows, 30 + 8 * k : 38 + 8 * k] = root * jc, root * jl
        jacobian[rows, size + 3 * (m // 5) : size + 3 * (m // 5) + 3] = root * jp
        right[rows] = root * np.array(r)
    N, g = jacobian.T @ jacobian, -jacobian.T @ right
    V = N[size:, size:] + np.diag(damping * np.diag(N[size:, size:]) + 1e-12)
    W = N[:size, size:]
    expected = np.triu(N[:size, :size] - W @ np.linalg.solve(V, W.T))
    args = (p.rotations, p.centers, p.lenses, p.lens_of, p.points, p.start, cam, p.xy, weight, damping)
    for at_once in (kernels.AT_ONCE, 40):
        monkeypatch.setattr(kernels, "AT_ONCE", at_once)
        S, rhs, diagonal = kernels.reduced_system(*args)
        np.testing.assert_allclose(np.triu(S), expected, rtol=1e-9, atol=1e-9 * np.abs(expected).max())
        np.testing.assert_allclose(rhs, g[:size] - W @ np.linalg.solve(V, g[size:]), rtol=1e-7, atol=1e-6)
        np.testing.assert_allclose(diagonal, np.diag(N[:size, :size]), rtol=1e-9)


@pytest.mark.parametrize(("photos", "most"), [(60, 2.6), (150, 1.7)])
def test_some_tracks_stand_for_all_in_every_corner_of_every_photo(
    rng: np.random.Generator, photos: int, most: float
) -> None:
    """Every cell that can be filled is, by tracks that together take little time; never by what does not count."""
    length = rng.integers(2, 60, 70 * photos)
    start = np.concatenate([[0], np.cumsum(length)])
    photo = np.concatenate([np.sort(rng.choice(photos, n, replace=False)) for n in length])
    xy = rng.uniform(0, [800, 600], (len(photo), 2))
    use = rng.random(len(photo)) < 0.9
    tracks, sizes = Tracks(start, photo, np.arange(len(photo))), np.tile([800, 600], (photos, 1))
    taken = some_tracks(tracks, xy, sizes, use, 640)
    place = np.floor(xy / [800, 600] * CELLS).astype(int)
    cell = photo * CELLS**2 + place[:, 0] * CELLS + place[:, 1]
    there = np.bincount(cell[use], minlength=photos * CELLS**2)
    held = np.bincount(cell[use & taken[tracks.track_of]], minlength=photos * CELLS**2)
    quota = 640 // CELLS**2
    assert (held >= np.minimum(there, quota)).all()
    assert held.sum() < most * np.minimum(there, quota).sum(), "much more is taken than is wanted"
    assert (length[taken] >= 2).all()
    assert np.mean(length[taken] >= LONG) > np.mean(length >= LONG)


def test_exact_data_is_recovered_to_zero_residual(rng: np.random.Generator) -> None:
    p = shaken(scene(rng), rng)
    report = adjust(p, loss=np.inf, iterations=60, tolerance=1e-14, prior_weight=0.0)
    assert report.rms < 1e-5
    assert p.lenses[0, 0] == pytest.approx(900.0, rel=1e-6)
    assert p.lenses[0, 4] == pytest.approx(-0.08, abs=1e-5)


def test_fixed_lens_stays(rng: np.random.Generator) -> None:
    p = shaken(scene(rng), rng)
    p.free[:] = False
    before = p.lenses.copy()
    adjust(p, loss=2.0, iterations=10)
    np.testing.assert_array_equal(p.lenses, before)


def test_same_minimum_as_scipy(rng: np.random.Generator) -> None:
    """SciPy's trust-region solver, on the same residuals, finds no lower cost (an independent reference)."""
    p = shaken(scene(rng, cameras=4, points=25, noise=0.5), rng, 0.004)
    p.free[:] = False
    p.free[0, 0] = True
    n, m = 4, 25
    r0, c0, x0, lens0 = p.rotations, p.centers, p.points, p.lenses[0]

    def residual(s: np.ndarray) -> np.ndarray:
        rot = np.stack([rotation_from_vector(w) @ r for w, r in zip(s[: 3 * n].reshape(n, 3), r0)])
        cen, pts = c0 + s[3 * n : 6 * n].reshape(n, 3), x0 + s[6 * n : 6 * n + 3 * m].reshape(m, 3)
        lens = lens0.copy()
        lens[:2] += s[-1] * np.array([1, lens0[1] / lens0[0]])
        r, _ = kernels.residuals(rot, cen, lens[None], p.lens_of, pts, p.cam, p.point_of, p.xy)
        return r.ravel()

    theirs = least_squares(residual, np.zeros(6 * n + 3 * m + 1), method="trf", x_scale="jac", max_nfev=200)
    ours = adjust(p, loss=np.inf, iterations=100, tolerance=1e-12, prior_weight=0.0)
    assert ours.last_cost == pytest.approx(2 * theirs.cost, rel=2e-3)


def test_outliers_hardly_matter_with_the_robust_loss(rng: np.random.Generator) -> None:
    p = scene(rng, noise=0.2)
    bad = rng.choice(len(p.xy), 40, replace=False)
    p.xy[bad] += rng.normal(0, 60, (40, 2))
    truth = p.points.copy()
    shaken(p, rng, 0.003)
    adjust(p, loss=1.0, iterations=60, tolerance=1e-9)
    r, _ = kernels.residuals(p.rotations, p.centers, p.lenses, p.lens_of, p.points, p.cam, p.point_of, p.xy)
    good = np.setdiff1d(np.arange(len(r)), bad)
    assert np.median(np.linalg.norm(r[good], axis=1)) < 0.4
    assert len(truth) == len(p.points)


def test_triangulation_finds_points_and_outliers(rng: np.random.Generator) -> None:
    p = scene(rng, points=60, noise=0.1)
    bad = np.arange(0, len(p.xy), 19)
    p.xy[bad] += 80
    norm = undistort(p.xy, LENS)
    x, good, inlier = triangulate(
        p.rotations, p.centers, np.full(len(p.xy), 900.0), p.start, p.cam, np.ones(len(p.xy), bool), norm, 2.0
    )
    assert good.all()
    assert not inlier[bad].any()
    assert inlier.sum() == len(p.xy) - len(bad)
    assert np.linalg.norm(x - p.points, axis=1).max() < 2e-3


def test_it_ends_when_cameras_stand_still(rng: np.random.Generator) -> None:
    """Earlier than when the cost does, and within a fifth of a sigma of where that ends."""
    ends = []
    for still in (0.0, 0.03):
        p = scene(np.random.default_rng(5), cameras=10, points=400, noise=0.5)
        astray = np.random.default_rng(6).random(len(p.xy)) < 0.05
        p.xy[astray] += np.random.default_rng(7).normal(0, 8, (int(astray.sum()), 2))
        p.weight[:] = 4.0
        report = adjust(shaken(p, np.random.default_rng(8)), 1.0, 80, 1e-12, still=still)
        ends.append((report.iterations, p))
    (long, exact), (short, ended) = ends
    assert short < 0.6 * long
    s = fit_similarity(ended.centers, exact.centers)
    off = np.linalg.norm(s.points(ended.centers) - exact.centers, axis=1)
    sigma = precision_of(exact, 1.0, 1.0).center_sigma
    assert (off < 0.2 * sigma).all()


def test_a_point_that_is_known_is_refined_and_a_wrong_one_found_anew(rng: np.random.Generator) -> None:
    p = scene(rng, noise=0.1)
    lens = Camera.simple(800, 600, 900.0).with_vector(LENS.vector)
    arguments = (p.rotations, p.centers, np.full(len(p.xy), 900.0), p.start, p.cam, np.ones(len(p.xy), bool))
    normalised = undistort(p.xy, lens)
    fresh, good, inlier = triangulate(*arguments, normalised)
    assert good.all()
    known = fresh + rng.normal(0, 3e-4, fresh.shape)
    known[::7] += 0.4  # these were put elsewhere
    again, still_good, agree = triangulate(*arguments, normalised, known=(known, np.ones(len(fresh), bool)))
    assert still_good.all()
    np.testing.assert_array_equal(agree, inlier)
    np.testing.assert_allclose(again, fresh, atol=1e-6)
    assert np.abs(known[::7] - fresh[::7]).max() > 0.39  # what was handed over is left as it was


def test_triangulation_leaves_narrow_angles_open(rng: np.random.Generator) -> None:
    p = scene(rng, cameras=2, points=10)
    p.centers[1] = p.centers[0] + [1e-3, 0, 0]
    p.rotations[1] = p.rotations[0]
    xy = np.stack([project(LENS, r, c, p.points)[0] for r, c in zip(p.rotations, p.centers)], 1).reshape(-1, 2)
    _, good, _ = triangulate(
        p.rotations, p.centers, np.full(20, 900.0), p.start, p.cam, np.ones(20, bool), undistort(xy, LENS)
    )
    assert not good.any()


def test_tracks_drop_a_photo_that_occurs_twice() -> None:
    matches = {
        (0, 1): np.array([[0, 0], [1, 1]], np.int32),
        (1, 2): np.array([[0, 0], [1, 0], [1, 2]], np.int32),
    }
    tracks = build_tracks([3, 3, 3], matches)
    # features 0-0-0 and 1-1-0/2 hang together through photo 2's feature 0: what occurs twice in a photo is gone
    seen = {(int(a), int(b)) for a, b in zip(tracks.photo, tracks.feature)}
    assert (2, 0) not in seen or len(tracks) == 2
    for t in range(len(tracks)):
        photos = tracks.photo[tracks.start[t] : tracks.start[t + 1]]
        assert len(set(photos)) == len(photos) >= 2


def test_no_matches_no_tracks() -> None:
    assert len(build_tracks([5, 5], {})) == 0
