"""Numba kernels of the bundle adjustment; the mathematics stands in :mod:`vast_quarry.core.align.bundle`."""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import numpy as np
from numba import njit, prange

from vast_quarry.core.camera import brown, brown_slopes


@njit(error_model="numpy", cache=True, inline="always", fastmath=True)
def _residual(R, C, L, X, u, v):
    """Reprojection residual (2,) of one observation and the depth; L is the lens vector fx fy cx cy k1 k2 k3 p1 p2."""
    a = X[0] - C[0]
    b = X[1] - C[1]
    c = X[2] - C[2]
    Z = R[2, 0] * a + R[2, 1] * b + R[2, 2] * c
    if abs(Z) < 1e-9:
        Z = 1e-9
    x = (R[0, 0] * a + R[0, 1] * b + R[0, 2] * c) / Z
    y = (R[1, 0] * a + R[1, 1] * b + R[1, 2] * c) / Z
    xd, yd = brown(x, y, L[4], L[5], L[6], L[7], L[8])
    return L[0] * xd + L[2] - u, L[1] * yd + L[3] - v, Z


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def residuals(R, C, lens, lens_of, X, cam, point, xy):
    """Residuals (M, 2) in pixels and depths (M,) of all observations."""
    out = np.empty((cam.shape[0], 2))
    depth = np.empty(cam.shape[0])
    for m in prange(cam.shape[0]):
        i = cam[m]
        du, dv, z = _residual(R[i], C[i], lens[lens_of[i]], X[point[m]], xy[m, 0], xy[m, 1])
        out[m, 0] = du
        out[m, 1] = dv
        depth[m] = z
    return out, depth


@njit(error_model="numpy", cache=True, fastmath=True)
def jacobian(R, C, L, X, u, v, jc, jl, jp):
    """One observation: residual, and its Jacobians by pose (2, 6), lens (2, 8) and point (2, 3), written in place.

    The pose moves by ``R <- exp([w]x) R`` and ``C <- C + c``; the lens by ``f, cx, cy, k1, k2, k3, p1, p2`` where
    fx and fy keep their ratio.
    """
    a = X[0] - C[0]
    b = X[1] - C[1]
    c = X[2] - C[2]
    Xc = R[0, 0] * a + R[0, 1] * b + R[0, 2] * c
    Yc = R[1, 0] * a + R[1, 1] * b + R[1, 2] * c
    Z = R[2, 0] * a + R[2, 1] * b + R[2, 2] * c
    if abs(Z) < 1e-9:
        Z = 1e-9
    x = Xc / Z
    y = Yc / Z
    fx = L[0]
    fy = L[1]
    k1 = L[4]
    k2 = L[5]
    k3 = L[6]
    p1 = L[7]
    p2 = L[8]
    r2 = x * x + y * y
    xd, yd = brown(x, y, k1, k2, k3, p1, p2)
    xx, xy, yy = brown_slopes(x, y, k1, k2, k3, p1, p2)
    iz = 1.0 / Z
    for row in range(2):
        if row == 0:
            v0 = fx * iz * xx
            v1 = fx * iz * xy
        else:
            v0 = fy * iz * xy
            v1 = fy * iz * yy
        v2 = -(v0 * x + v1 * y)
        # J_w = X_cam x v
        jc[row, 0] = Yc * v2 - Z * v1
        jc[row, 1] = Z * v0 - Xc * v2
        jc[row, 2] = Xc * v1 - Yc * v0
        for k in range(3):
            s = v0 * R[0, k] + v1 * R[1, k] + v2 * R[2, k]
            jp[row, k] = s
            jc[row, 3 + k] = -s
    aspect = fy / fx
    jl[0, 0] = xd
    jl[1, 0] = aspect * yd
    jl[0, 1] = 1.0
    jl[1, 1] = 0.0
    jl[0, 2] = 0.0
    jl[1, 2] = 1.0
    jl[0, 3] = fx * x * r2
    jl[1, 3] = fy * y * r2
    jl[0, 4] = jl[0, 3] * r2
    jl[1, 4] = jl[1, 3] * r2
    jl[0, 5] = jl[0, 4] * r2
    jl[1, 5] = jl[1, 4] * r2
    jl[0, 6] = fx * 2 * x * y
    jl[1, 6] = fy * (r2 + 2 * y * y)
    jl[0, 7] = fx * (r2 + 2 * x * x)
    jl[1, 7] = fy * 2 * x * y
    return fx * xd + L[2] - u, fy * yd + L[3] - v


@njit(error_model="numpy", cache=True, inline="always")
def _invert_symmetric(v, out):
    """Inverse of a symmetric 3 x 3 matrix."""
    a = v[1, 1] * v[2, 2] - v[1, 2] * v[1, 2]
    b = v[0, 2] * v[1, 2] - v[0, 1] * v[2, 2]
    c = v[0, 1] * v[1, 2] - v[0, 2] * v[1, 1]
    det = v[0, 0] * a + v[0, 1] * b + v[0, 2] * c
    s = 1.0 / det if abs(det) > 1e-300 else 0.0
    out[0, 0] = a * s
    out[0, 1] = b * s
    out[0, 2] = c * s
    out[1, 0] = out[0, 1]
    out[1, 1] = (v[0, 0] * v[2, 2] - v[0, 2] * v[0, 2]) * s
    out[1, 2] = (v[0, 1] * v[0, 2] - v[0, 0] * v[1, 2]) * s
    out[2, 0] = out[0, 2]
    out[2, 1] = out[1, 2]
    out[2, 2] = (v[0, 0] * v[1, 1] - v[0, 1] * v[0, 1]) * s


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def _by_point(R, C, lens, lens_of, X, start, cam, xy, weight, damping, chunks, W, Vi):
    """Normal equations point by point, and what eliminating the points takes from all blocks but those of two poses.

    As :func:`reduced_system`; ``W`` (M, 3, 6) and ``Vi`` (P, 3, 3) are written: the coupling of each observation's pose with its
    point, by coordinate of the point, and the inverse of each point's block.

    Returns
    -------
    own : (chunks, n, 6, 6)
        Blocks of single poses.
    right : (chunks, D, 8 g)
        Columns of the lenses.
    rhs, diagonal : (chunks, D)
    """
    n = R.shape[0]
    groups = lens.shape[0]
    size = 6 * n + 8 * groups
    points = X.shape[0]
    own = np.zeros((chunks, n, 6, 6))
    right = np.zeros((chunks, size, 8 * groups))
    rhs = np.zeros((chunks, size))
    diagonal = np.zeros((chunks, size))
    for part in prange(chunks):
        A = own[part]
        E = right[part]
        g = rhs[part]
        d = diagonal[part]
        jc = np.empty((2, 6))
        jl = np.empty((2, 8))
        jp = np.empty((2, 3))
        Y = np.empty((6, 3))
        touched = np.empty(groups, np.int64)
        slot = np.full(groups, -1, np.int64)
        WL = np.zeros((groups, 8, 3))
        YL = np.empty((8, 3))
        V = np.empty((3, 3))
        inverse = np.empty((3, 3))
        gp = np.empty(3)
        q = np.empty(3)
        first = points * part // chunks
        last = points * (part + 1) // chunks
        for p in range(first, last):
            s0 = start[p]
            s1 = start[p + 1]
            if s1 - s0 < 2:
                W[s0:s1] = 0.0
                Vi[p] = 0.0
                continue
            V[:] = 0.0
            gp[:] = 0.0
            used = 0
            for m in range(s0, s1):
                i = cam[m]
                k = lens_of[i]
                ru, rv = jacobian(R[i], C[i], lens[k], X[p], xy[m, 0], xy[m, 1], jc, jl, jp)
                w = weight[m]
                io = 6 * i
                lo = 6 * n + 8 * k
                le = 8 * k
                if slot[k] < 0:
                    slot[k] = used
                    touched[used] = k
                    used += 1
                    WL[k] = 0.0
                for a in range(3):
                    gp[a] += w * (jp[0, a] * ru + jp[1, a] * rv)
                    for b in range(a, 3):
                        V[a, b] += w * (jp[0, a] * jp[0, b] + jp[1, a] * jp[1, b])
                for a in range(6):
                    c0 = w * jc[0, a]
                    c1 = w * jc[1, a]
                    g[io + a] -= c0 * ru + c1 * rv
                    for b in range(3):
                        W[m, b, a] = c0 * jp[0, b] + c1 * jp[1, b]
                    for b in range(6):
                        A[i, a, b] += c0 * jc[0, b] + c1 * jc[1, b]
                    for b in range(8):
                        E[io + a, le + b] += c0 * jl[0, b] + c1 * jl[1, b]
                for a in range(8):
                    c0 = w * jl[0, a]
                    c1 = w * jl[1, a]
                    g[lo + a] -= c0 * ru + c1 * rv
                    for b in range(3):
                        WL[k, a, b] += c0 * jp[0, b] + c1 * jp[1, b]
                    for b in range(8):
                        E[lo + a, le + b] += c0 * jl[0, b] + c1 * jl[1, b]
                for a in range(6):
                    d[io + a] += w * (jc[0, a] * jc[0, a] + jc[1, a] * jc[1, a])
                for a in range(8):
                    d[lo + a] += w * (jl[0, a] * jl[0, a] + jl[1, a] * jl[1, a])
            for a in range(3):
                V[a, a] = V[a, a] * (1.0 + damping) + 1e-12
                for b in range(a):
                    V[a, b] = V[b, a]
            _invert_symmetric(V, inverse)
            Vi[p] = inverse
            for a in range(3):
                q[a] = inverse[a, 0] * gp[0] + inverse[a, 1] * gp[1] + inverse[a, 2] * gp[2]
            for m in range(s0, s1):
                io = 6 * cam[m]
                for a in range(6):
                    for b in range(3):
                        Y[a, b] = W[m, 0, a] * inverse[0, b] + W[m, 1, a] * inverse[1, b] + W[m, 2, a] * inverse[2, b]
                    g[io + a] += W[m, 0, a] * q[0] + W[m, 1, a] * q[1] + W[m, 2, a] * q[2]
                for t in range(used):
                    k = touched[t]
                    le = 8 * k
                    for a in range(6):
                        for b in range(8):
                            E[io + a, le + b] -= Y[a, 0] * WL[k, b, 0] + Y[a, 1] * WL[k, b, 1] + Y[a, 2] * WL[k, b, 2]
            for t in range(used):
                k = touched[t]
                lo = 6 * n + 8 * k
                for a in range(8):
                    for b in range(3):
                        YL[a, b] = (
                            WL[k, a, 0] * inverse[0, b] + WL[k, a, 1] * inverse[1, b] + WL[k, a, 2] * inverse[2, b]
                        )
                    g[lo + a] += WL[k, a, 0] * q[0] + WL[k, a, 1] * q[1] + WL[k, a, 2] * q[2]
                for t2 in range(used):
                    k2 = touched[t2]
                    le2 = 8 * k2
                    for a in range(8):
                        for b in range(8):
                            E[lo + a, le2 + b] -= (
                                YL[a, 0] * WL[k2, b, 0] + YL[a, 1] * WL[k2, b, 1] + YL[a, 2] * WL[k2, b, 2]
                            )
                slot[k] = -1
    return own, right, rhs, diagonal


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def _by_pose(by_cam, cam_start, point_of, start, cam, W, Vi, S):
    """Take what eliminating the points takes from the blocks of two poses: the rows of each pose by themselves.

    The rows of one pose stay in the fast memory while all its points are gone through; gone through point by point, every block of
    the system would be fetched from afar each time (2.8 times as long for 384 photos, measured).

    Parameters
    ----------
    by_cam : (M,) int
        Observations by photo; those of photo i are ``by_cam[cam_start[i]:cam_start[i + 1]]``.
    W : (M, 3, 6), Vi : (P, 3, 3)
        Of :func:`_by_point`.
    S : (D, D)
        Changed in the blocks i <= j.
    """
    n = len(cam_start) - 1
    for turn in prange(n):
        # photos at the beginning have more partners behind them: every worker gets some of both ends
        i = np.int64(turn // 2 if turn % 2 == 0 else n - 1 - turn // 2)
        row = np.zeros((n, 6, 6))
        Y = np.empty((6, 3))
        for t in range(cam_start[i], cam_start[i + 1]):
            m = by_cam[t]
            p = point_of[m]
            for a in range(6):
                for b in range(3):
                    Y[a, b] = W[m, 0, a] * Vi[p, 0, b] + W[m, 1, a] * Vi[p, 1, b] + W[m, 2, a] * Vi[p, 2, b]
            for o in range(start[p], start[p + 1]):
                j = cam[o]
                if j < i:
                    continue
                for a in range(6):
                    y0, y1, y2 = Y[a, 0], Y[a, 1], Y[a, 2]
                    for b in range(6):
                        row[j, a, b] += y0 * W[o, 0, b] + y1 * W[o, 1, b] + y2 * W[o, 2, b]
        for j in range(i, n):
            for a in range(6):
                for b in range(6):
                    S[6 * i + a, 6 * j + b] -= row[j, a, b]


#: observations that are linearised at once: so many take 80 MB; and parts in which points are gone through beside each other
AT_ONCE, CHUNKS = 500_000, 2


def reduced_system(R, C, lens, lens_of, X, start, cam, xy, weight, damping):
    """Schur complement of the normal equations onto poses and lenses.

    Observations are sorted by point; ``start`` (P + 1,) delimits them. ``weight`` (M,) multiplies squared residuals. Unknowns: six
    per pose, then eight per lens.

    Returns
    -------
    S : (D, D), rhs : (D,)
        Of the blocks of two poses only those where i <= j.
    diagonal : (D,)
        Undamped diagonal of the pose and lens blocks, for the damping.
    """
    n, groups = len(R), len(lens)
    size = 6 * n + 8 * groups
    S, rhs, diagonal = np.zeros((size, size)), np.zeros(size), np.zeros(size)
    first = 0
    while first < len(X):
        last = max(first + 1, int(np.searchsorted(start, start[first] + AT_ONCE, side="right")) - 1)
        part = slice(start[first], start[last])
        begin, photos = start[first : last + 1] - start[first], cam[part]
        W, Vi = np.empty((len(photos), 3, 6)), np.empty((last - first, 3, 3))
        own, right, g, d = _by_point(
            R, C, lens, lens_of, X[first:last], begin, photos, xy[part], weight[part], damping, CHUNKS, W, Vi
        )
        by_cam = np.argsort(photos, kind="stable")
        cam_start = np.searchsorted(photos[by_cam], np.arange(n + 1))
        point_of = np.repeat(np.arange(last - first), np.diff(begin))
        _by_pose(by_cam, cam_start, point_of, begin, photos, W, Vi, S)
        S[:, 6 * n :] += right.sum(0)
        for a in range(6):
            for b in range(6):
                S[np.arange(a, 6 * n, 6), np.arange(b, 6 * n, 6)] += own[:, :, a, b].sum(0)
        rhs += g.sum(0)
        diagonal += d.sum(0)
        first = last
    return S, rhs, diagonal


@njit(error_model="numpy", cache=True, parallel=True, fastmath=True)
def point_steps(R, C, lens, lens_of, X, start, cam, xy, weight, damping, step):
    """Back-substitution: the step of every point (P, 3), given the step of poses and lenses."""
    n = R.shape[0]
    out = np.zeros((X.shape[0], 3))
    for p in prange(X.shape[0]):
        if start[p + 1] - start[p] < 2:
            continue
        jc = np.empty((2, 6))
        jl = np.empty((2, 8))
        jp = np.empty((2, 3))
        V = np.zeros((3, 3))
        Vi = np.empty((3, 3))
        g = np.zeros(3)
        for m in range(start[p], start[p + 1]):
            i = cam[m]
            k = lens_of[i]
            ru, rv = jacobian(R[i], C[i], lens[k], X[p], xy[m, 0], xy[m, 1], jc, jl, jp)
            io = 6 * i
            lo = 6 * n + 8 * k
            for a in range(6):
                ru += jc[0, a] * step[io + a]
                rv += jc[1, a] * step[io + a]
            for a in range(8):
                ru += jl[0, a] * step[lo + a]
                rv += jl[1, a] * step[lo + a]
            w = weight[m]
            for a in range(3):
                g[a] -= w * (jp[0, a] * ru + jp[1, a] * rv)
                for b in range(3):
                    V[a, b] += w * (jp[0, a] * jp[0, b] + jp[1, a] * jp[1, b])
        for a in range(3):
            V[a, a] = V[a, a] * (1.0 + damping) + 1e-12
        _invert_symmetric(V, Vi)
        for a in range(3):
            out[p, a] = Vi[a, 0] * g[0] + Vi[a, 1] * g[1] + Vi[a, 2] * g[2]
    return out
