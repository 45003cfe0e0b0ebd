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
def reduced_system(R, C, lens, lens_of, X, start, cam, xy, weight, damping, chunks):
    """Schur complement of the normal equations onto poses and lenses.

    Observations are sorted by point; ``start`` (P + 1,) delimits them. ``weight`` (M,) multiplies squared residuals.
    Unknowns: six per pose, then eight per lens.

    Returns
    -------
    S : (chunks, D, D), rhs : (chunks, D)
        To be summed over chunks; the upper triangle of pose-pose blocks only where i <= j.
    diagonal : (chunks, D)
        Undamped diagonal of the pose and lens blocks, for the damping.
    """
    n = R.shape[0]
    groups = lens.shape[0]
    size = 6 * n + 8 * groups
    points = X.shape[0]
    S = np.zeros((chunks, size, size))
    rhs = np.zeros((chunks, size))
    diagonal = np.zeros((chunks, size))
    longest = 0
    for p in range(points):
        longest = max(longest, start[p + 1] - start[p])
    for part in prange(chunks):
        A = S[part]
        g = rhs[part]
        d = diagonal[part]
        jc = np.empty((2, 6))
        jl = np.empty((2, 8))
        jp = np.empty((2, 3))
        # by coordinate of the point, then by unknown of the pose: what is added to a row of the system lies together
        W = np.empty((longest, 3, 6))
        Y = np.empty((6, 3))
        touched = np.empty(groups, np.int64)
        slot = np.full(groups, -1, np.int64)
        WL = np.zeros((groups, 8, 3))
        YL = np.empty((8, 3))
        V = np.empty((3, 3))
        Vi = np.empty((3, 3))
        gp = np.empty(3)
        q = np.empty(3)
        first = points * part // chunks
        last = points * (part + 1) // chunks
        for p in range(first, last):
            s0 = start[p]
            s1 = start[p + 1]
            if s1 - s0 < 2:
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
                        W[m - s0, b, a] = c0 * jp[0, b] + c1 * jp[1, b]
                    for b in range(6):
                        A[io + a, io + b] += c0 * jc[0, b] + c1 * jc[1, b]
                    for b in range(8):
                        A[io + a, lo + b] += c0 * jl[0, b] + c1 * jl[1, b]
                for a in range(8):
                    c0 = w * jl[0, a]
                    c1 = w * jl[1, a]
                    g[lo + a] -= c0 * ru + c1 * rv
                    for b in range(3):
                        WL[k, a, b] += c0 * jp[0, b] + c1 * jp[1, b]
                    for b in range(8):
                        A[lo + a, lo + b] += c0 * jl[0, b] + c1 * jl[1, b]
                for a in range(6):
                    d[io + a] += w * (jc[0, a] * jc[0, a] + jc[1, a] * jc[1, a])
                for a in range(8):
                    d[lo + a] += w * (jl[0, a] * jl[0, a] + jl[1, a] * jl[1, a])
            for a in range(3):
                V[a, a] = V[a, a] * (1.0 + damping) + 1e-12
                for b in range(a):
                    V[a, b] = V[b, a]
            _invert_symmetric(V, Vi)
            for a in range(3):
                q[a] = Vi[a, 0] * gp[0] + Vi[a, 1] * gp[1] + Vi[a, 2] * gp[2]
            for m in range(s0, s1):
                io = 6 * cam[m]
                own = W[m - s0]
                for a in range(6):
                    for b in range(3):
                        Y[a, b] = own[0, a] * Vi[0, b] + own[1, a] * Vi[1, b] + own[2, a] * Vi[2, b]
                    g[io + a] += own[0, a] * q[0] + own[1, a] * q[1] + own[2, a] * q[2]
                for o in range(s0, s1):
                    jo = 6 * cam[o]
                    if jo < io:
                        continue
                    w0, w1, w2 = W[o - s0, 0], W[o - s0, 1], W[o - s0, 2]
                    for a in range(6):
                        row, y0, y1, y2 = A[io + a, jo : jo + 6], Y[a, 0], Y[a, 1], Y[a, 2]
                        for b in range(6):
                            row[b] -= y0 * w0[b] + y1 * w1[b] + y2 * w2[b]
                for t in range(used):
                    k = touched[t]
                    lo = 6 * n + 8 * k
                    for a in range(6):
                        for b in range(8):
                            A[io + a, lo + b] -= Y[a, 0] * WL[k, b, 0] + Y[a, 1] * WL[k, b, 1] + Y[a, 2] * WL[k, b, 2]
            for t in range(used):
                k = touched[t]
                lo = 6 * n + 8 * k
                for a in range(8):
                    for b in range(3):
                        YL[a, b] = WL[k, a, 0] * Vi[0, b] + WL[k, a, 1] * Vi[1, b] + WL[k, a, 2] * Vi[2, b]
                    g[lo + a] += WL[k, a, 0] * q[0] + WL[k, a, 1] * q[1] + WL[k, a, 2] * q[2]
                for t2 in range(used):
                    k2 = touched[t2]
                    lo2 = 6 * n + 8 * k2
                    for a in range(8):
                        for b in range(8):
                            A[lo + a, lo2 + b] -= (
                                YL[a, 0] * WL[k2, b, 0] + YL[a, 1] * WL[k2, b, 1] + YL[a, 2] * WL[k2, b, 2]
                            )
                slot[k] = -1
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
