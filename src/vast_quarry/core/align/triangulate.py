"""Robust triangulation of tracks from known cameras (numba).

For every track, pairs of its rays give candidate points (closest point to both rays); the candidate with most
observations within the threshold is refined on them by Gauss-Newton on the reprojection error. A point that is known from
before is the first candidate, and the only one where nearly all observations agree with it. Errors count in sigmas of
the observation that they belong to, so that one threshold serves coarse and fine features.

References
----------
Hartley, R., Sturm, P. (1997). Triangulation. Computer Vision and Image Understanding 68(2), 146-157.
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

Array = NDArray[np.float64]
MOST_PAIRS = 24
#: a point that was known and with which so many of its observations agree is only refined
STILL = 0.8


@njit(error_model="numpy", cache=True, inline="always", fastmath=True)
def _error2(R, C, X, x, y, f):
    """Squared reprojection error in units of 1 / ``f`` of a point against a normalised observation; huge behind the camera."""
    a = X[0] - C[0]
    b = X[1] - C[1]
    c = X[2] - C[2]
    z = R[2, 0] * a + R[2, 1] * b + R[2, 2] * c
    if z <= 1e-9:
        return 1e30
    du = (R[0, 0] * a + R[0, 1] * b + R[0, 2] * c) / z - x
    dv = (R[1, 0] * a + R[1, 1] * b + R[1, 2] * c) / z - y
    return (du * du + dv * dv) * f * f


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def _triangulate(R, C, unit, which, start, cam, usable, norm, threshold, smallest_angle, X, good, inlier, known):
    for w in prange(which.shape[0]):
        t = which[w]
        s0 = start[t]
        s1 = start[t + 1]
        n = 0
        idx = np.empty(s1 - s0, np.int64)
        ray = np.empty((s1 - s0, 3))
        for m in range(s0, s1):
            inlier[m] = False
            if usable[m]:
                i = cam[m]
                length = np.sqrt(norm[m, 0] ** 2 + norm[m, 1] ** 2 + 1.0)
                for k in range(3):
                    ray[n, k] = (R[i, 0, k] * norm[m, 0] + R[i, 1, k] * norm[m, 1] + R[i, 2, k]) / length
                idx[n] = m
                n += 1
        good[t] = False
        if n < 2:
            continue
        best = 0
        best_error = 1e30
        bx = np.zeros(3)
        P = np.zeros(3)
        limit = threshold * threshold
        tried = 0
        sought = n
        if known[t]:
            for o in range(n):
                m = idx[o]
                e = _error2(R[cam[m]], C[cam[m]], X[t], norm[m, 0], norm[m, 1], unit[m])
                if e < limit:
                    best += 1
                    best_error = e if best == 1 else best_error + e
            bx[:] = X[t]
            if best >= 3 and best >= STILL * n:
                sought = 0
        step = max(1, (n * (n - 1) // 2) // MOST_PAIRS)
        counter = 0
        for a in range(sought):
            for b in range(n - 1, a, -1):
                counter += 1
                if step > 1 and counter % step:
                    continue
                tried += 1
                if tried > 2 * MOST_PAIRS:
                    break
                ca = C[cam[idx[a]]]
                cb = C[cam[idx[b]]]
                dot = ray[a, 0] * ray[b, 0] + ray[a, 1] * ray[b, 1] + ray[a, 2] * ray[b, 2]
                den = 1.0 - dot * dot
                if den < 1e-7:
                    continue
                w0 = cb[0] - ca[0]
                w1 = cb[1] - ca[1]
                w2 = cb[2] - ca[2]
                da = ray[a, 0] * w0 + ray[a, 1] * w1 + ray[a, 2] * w2
                db = ray[b, 0] * w0 + ray[b, 1] * w1 + ray[b, 2] * w2
                la = (da - dot * db) / den
                lb = (dot * da - db) / den
                if la <= 0 or lb <= 0:
                    continue
                for k in range(3):
                    P[k] = 0.5 * (ca[k] + la * ray[a, k] + cb[k] + lb * ray[b, k])
                count = 0
                total = 0.0
                for o in range(n):
                    m = idx[o]
                    e = _error2(R[cam[m]], C[cam[m]], P, norm[m, 0], norm[m, 1], unit[m])
                    if e < limit:
                        count += 1
                        total += e
                if count > best or (count == best and total < best_error):
                    best = count
                    best_error = total
                    bx[:] = P
        if best < 2:
            continue
        # Gauss-Newton on the agreeing observations
        for _ in range(4):
            H = np.zeros((3, 3))
            g = np.zeros(3)
            for o in range(n):
                m = idx[o]
                i = cam[m]
                if _error2(R[i], C[i], bx, norm[m, 0], norm[m, 1], unit[m]) >= limit:
                    continue
                a0 = bx[0] - C[i, 0]
                a1 = bx[1] - C[i, 1]
                a2 = bx[2] - C[i, 2]
                z = R[i, 2, 0] * a0 + R[i, 2, 1] * a1 + R[i, 2, 2] * a2
                x = (R[i, 0, 0] * a0 + R[i, 0, 1] * a1 + R[i, 0, 2] * a2) / z
                y = (R[i, 1, 0] * a0 + R[i, 1, 1] * a1 + R[i, 1, 2] * a2) / z
                f = unit[m]
                for row in range(2):
                    v = x if row == 0 else y
                    e = (v - norm[m, row]) * f
                    j0 = f * (R[i, row, 0] - v * R[i, 2, 0]) / z
                    j1 = f * (R[i, row, 1] - v * R[i, 2, 1]) / z
                    j2 = f * (R[i, row, 2] - v * R[i, 2, 2]) / z
                    g[0] -= j0 * e
                    g[1] -= j1 * e
                    g[2] -= j2 * e
                    H[0, 0] += j0 * j0
                    H[0, 1] += j0 * j1
                    H[0, 2] += j0 * j2
                    H[1, 1] += j1 * j1
                    H[1, 2] += j1 * j2
                    H[2, 2] += j2 * j2
            H[1, 0] = H[0, 1]
            H[2, 0] = H[0, 2]
            H[2, 1] = H[1, 2]
            scale = 1e-9 * (H[0, 0] + H[1, 1] + H[2, 2]) + 1e-300
            for k in range(3):
                H[k, k] += scale
            d = np.linalg.solve(H, g)
            for k in range(3):
                bx[k] += d[k]
        count = 0
        widest = 1.0
        for o in range(n):
            m = idx[o]
            i = cam[m]
            ok = _error2(R[i], C[i], bx, norm[m, 0], norm[m, 1], unit[m]) < limit
            inlier[m] = ok
            if ok:
                count += 1
                for k in range(3):
                    ray[o, k] = bx[k] - C[i, k]
                length = np.sqrt(ray[o, 0] ** 2 + ray[o, 1] ** 2 + ray[o, 2] ** 2)
                for k in range(3):
                    ray[o, k] /= length
        if count < 2:
            continue
        for a in range(n):
            if inlier[idx[a]]:
                for b in range(a + 1, n):
                    if inlier[idx[b]]:
                        c = ray[a, 0] * ray[b, 0] + ray[a, 1] * ray[b, 1] + ray[a, 2] * ray[b, 2]
                        widest = min(widest, c)
        if widest > np.cos(smallest_angle):
            continue
        X[t, 0] = bx[0]
        X[t, 1] = bx[1]
        X[t, 2] = bx[2]
        good[t] = True


def triangulate(
    rotations: Array,
    centers: Array,
    unit: Array,
    start: NDArray[np.int64],
    cam: NDArray[np.int64],
    usable: NDArray[np.bool_],
    normalised: Array,
    threshold: float = 4.0,
    smallest_angle_deg: float = 1.5,
    which: NDArray[np.int64] | None = None,
    known: tuple[Array, NDArray[np.bool_]] | None = None,
) -> tuple[Array, NDArray[np.bool_], NDArray[np.bool_]]:
    """Triangulate tracks.

    Parameters
    ----------
    rotations : (n, 3, 3), centers : (n, 3)
        Cameras.
    unit : (M,)
        What turns an error in normalised coordinates into sigmas: focal length over sigma, both in pixels.
    start : (T + 1,), cam : (M,)
        Observations sorted by track.
    usable : (M,) bool
        Observations to use (those of placed cameras).
    normalised : (M, 2)
        Undistorted normalised coordinates.
    threshold : float
        Greatest reprojection error in sigmas.
    smallest_angle_deg : float
        Tracks whose widest angle between rays is smaller are left open.
    which : (K,) int, optional
        Only these tracks; the others come back as not good.
    known : (T, 3) and (T,) bool, optional
        Points that may be about right, and where there is one: most need no search then.

    Returns
    -------
    points : (T, 3), good : (T,) bool, inlier : (M,) bool
    """
    tracks = len(start) - 1
    X = np.zeros((tracks, 3)) if known is None else known[0].copy()
    good = np.zeros(tracks, bool)
    inlier = np.zeros(len(cam), bool)
    _triangulate(
        rotations, centers, unit, np.arange(tracks) if which is None else which, start, cam, usable, normalised,
        threshold, np.radians(smallest_angle_deg), X, good, inlier, good.copy() if known is None else known[1],
    )  # fmt: skip
    inlier &= np.repeat(good, np.diff(start))
    return X, good, inlier
