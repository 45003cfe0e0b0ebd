"""Loops of the fusion: what agrees about a pixel, what gives way to a better photo, what other photos see through.

Cameras are (fx, fy, cx, cy); rotations turn the world to the camera.
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import numpy as np
from numba import njit, prange

#: neighbours in the map that a pixel is asked to lie on a surface with: within so many pixels
AROUND = 2
#: parallax (square of the sine) from which on maps differ by what they all have from their windows: 30 degrees
WIDE_ENOUGH = 0.25
#: and below which two alone tell no depth: 2 degrees
NARROW = 0.0012


@njit(error_model="numpy", cache=True, inline="always")
def _seen(X, K, R, C):
    """Pixel and depth at which a camera sees a place; depth 0 behind it."""
    a, b, c = X[0] - C[0], X[1] - C[1], X[2] - C[2]
    z = R[2, 0] * a + R[2, 1] * b + R[2, 2] * c
    if z <= 0:
        return 0.0, 0.0, 0.0
    u = (R[0, 0] * a + R[0, 1] * b + R[0, 2] * c) / z * K[0] + K[2]
    v = (R[1, 0] * a + R[1, 1] * b + R[1, 2] * c) / z * K[1] + K[3]
    return u, v, z


@njit(error_model="numpy", cache=True, inline="always")
def _pixel(u, v, width, height):
    """The pixel that holds a place of a picture; -1, -1 outside."""
    i, j = np.int64(np.round(u)), np.int64(np.round(v))
    if i < 0 or j < 0 or i >= width or j >= height:
        return np.int64(-1), np.int64(-1)
    return i, j


@njit(error_model="numpy", cache=True, inline="always")
def _sight(X, normal, K, C, z):
    """Pixels per unit of length along the surface with which a camera sees a place at depth ``z``: closer and more square-on is more."""
    to = along = 0.0
    for k in range(3):
        to += (C[k] - X[k]) ** 2
        along += (C[k] - X[k]) * normal[k]
    return max(along / np.sqrt(to), 0.05) * K[0] / z


@njit(error_model="numpy", cache=True, inline="always")
def _parallax(X, C, D):
    """Square of the sine of the angle between the rays from a place to two cameras."""
    aa = bb = ab = 0.0
    for k in range(3):
        a = C[k] - X[k]
        b = D[k] - X[k]
        aa += a * a
        bb += b * b
        ab += a * b
    return max(1.0 - ab * ab / max(aa * bb, 1e-30), 0.0)


@njit(error_model="numpy", cache=True, parallel=True)
def supported(depth, normal, cost, K, R, relative, most_cost, least, out, rim):
    """Pixels of a depth map that lie on one surface with at least ``least`` others about them, and those at a rim of it.

    At a rim what lies about a pixel is farther away, or not known: its colour may be that of what stands behind.

    Parameters
    ----------
    depth, cost : (H, W) float, normal : (H, W, 3) float
        Normals in the world.
    relative : float
        Greatest distance from the pixel's plane as a share of the depth.
    out, rim : (H, W) bool
        Written.
    """
    h, w = depth.shape
    for j_ in prange(h):
        j = np.int64(j_)
        for i in range(w):
            out[j, i] = rim[j, i] = False
            d = np.float64(depth[j, i])
            if d <= 0 or cost[j, i] > most_cost:
                continue
            n0 = n1 = n2 = 0.0
            for k in range(3):
                n0 += R[0, k] * normal[j, i, k]
                n1 += R[1, k] * normal[j, i, k]
                n2 += R[2, k] * normal[j, i, k]
            here = d * (n0 * (i - K[2]) / K[0] + n1 * (j - K[3]) / K[1] + n2)
            count = 0
            for dy in range(-AROUND, AROUND + 1):
                for dx in range(-AROUND, AROUND + 1):
                    y, x = j + dy, i + dx
                    if y < 0 or x < 0 or y >= h or x >= w:
                        continue
                    e = np.float64(depth[y, x])
                    if e <= 0 or cost[y, x] > most_cost:
                        rim[j, i] = True
                        continue
                    there = e * (n0 * (x - K[2]) / K[0] + n1 * (y - K[3]) / K[1] + n2)
                    if abs(there - here) <= relative * d:
                        count += 1
                    elif e > d * (1.0 + relative):
                        rim[j, i] = True
            out[j, i] = count > least


@njit(error_model="numpy", cache=True, parallel=True)
def agree(
    depth, normal, cost, on, rim, K, R, C, depths, normals, Ks, Rs, Cs, reproj, relative, most_cost, least, out, out_n, views,
    rank, variance, rank_step, rim_steps, doubtful, share, few, sure,
):  # fmt: skip
    """Mean of what photos that agree say of each pixel, how many they are, how well the photo sees it (``rank``), and the variance
    of what single ones say along the pixel's normal.

    What a photo says counts by the fourth power of its pixels per length there: its window is flat and the surface is not, which
    puts it off by the square of what the window covers.

    ``normals`` of the others are int8, 127 to the unit; depths of which they are not sure are below 0, infinitely so where they are of no use. Pixels that are ``doubtful`` (H, W) want the ``share`` of the photos that
    are sure of their own depth there, besides being seen alike by ``least``. Where no more than ``few`` photos could see a pixel, whose cost is no
    more than ``sure``, two are enough.
    """
    h, w = depth.shape
    sources = depths.shape[0]
    for j_ in prange(h):
        j = np.int64(j_)
        acc = np.empty(3)
        accn = np.empty(3)
        X = np.empty(3)
        Y = np.empty(3)
        for i in range(w):
            views[j, i] = 0
            d = np.float64(depth[j, i])
            if not on[j, i] or d <= 0.0 or cost[j, i] > most_cost:
                continue
            x = (i - K[2]) / K[0] * d
            y = (j - K[3]) / K[1] * d
            for k in range(3):
                X[k] = R[0, k] * x + R[1, k] * y + R[2, k] * d + C[k]
                acc[k] = X[k]
                accn[k] = normal[j, i, k]
            mine = _sight(X, normal[j, i], K, C, d)
            count = 1
            asked = said = 1
            total = squares = 1.0
            parallax = 0.0
            off_sum = off_squares = 0.0
            for s in range(sources):
                u, v, z = _seen(X, Ks[s], Rs[s], Cs[s])
                if z <= 0:
                    continue
                ui, vi = _pixel(u, v, depths.shape[2], depths.shape[1])
                if ui < 0:
                    continue
                ds = np.float64(depths[s, vi, ui])
                sure_of_it = ds >= 0.0
                ds = abs(ds)
                # what hides the spot from a photo says nothing of it
                if ds <= 0 or ds > z * (1.0 - 3 * relative):
                    asked += 1
                    said += 1 if sure_of_it else 0
                if ds <= 0 or abs(ds - z) > 3 * relative * z:
                    continue
                # depth of the source's plane at the exact place, not at the middle of its pixel
                px = (ui - Ks[s, 2]) / Ks[s, 0]
                py = (vi - Ks[s, 3]) / Ks[s, 1]
                qx = (u - Ks[s, 2]) / Ks[s, 0]
                qy = (v - Ks[s, 3]) / Ks[s, 1]
                n0 = n1 = n2 = 0.0
                alike = 0.0
                for k in range(3):
                    n = normals[s, vi, ui, k] / 127.0
                    n0 += Rs[s, 0, k] * n
                    n1 += Rs[s, 1, k] * n
                    n2 += Rs[s, 2, k] * n
                    alike += n * normal[j, i, k]
                den = n0 * qx + n1 * qy + n2
                if den > -0.05 or alike < 0.3:
                    continue
                ds = ds * (n0 * px + n1 * py + n2) / den
                if abs(ds - z) > relative * z:
                    continue
                for k in range(3):
                    Y[k] = Rs[s, 0, k] * qx * ds + Rs[s, 1, k] * qy * ds + Rs[s, 2, k] * ds + Cs[s, k]
                eu, ev, zr = _seen(Y, K, R, C)
                if zr <= 0 or (eu - i) ** 2 + (ev - j) ** 2 > reproj * reproj:
                    continue
                count += 1
                said += 0 if sure_of_it else 1
                weight = (_sight(X, normal[j, i], Ks[s], Cs[s], z) / mine) ** 4
                total += weight
                squares += weight * weight
                parallax += weight * _parallax(X, C, Cs[s])
                off = 0.0
                for k in range(3):
                    off += (Y[k] - X[k]) * normal[j, i, k]
                    acc[k] += weight * Y[k]
                    accn[k] += weight * normals[s, vi, ui, k] / 127.0
                off_sum += weight * off
                off_squares += weight * off * off
            # of what few photos can see two that agree surely are enough: it is kept with a larger error rather than lost
            enough = least if asked > few or cost[j, i] > sure else min(least, 2)
            # a photo that is not sure of its own depth there says neither yes nor no
            if count < enough or (doubtful[j, i] and count < share * (said if asked > few else said - 1)):
                continue
            if count < least and parallax < (total - 1.0) * NARROW:
                continue
            # by how much maps differ for the small angles that they are made from goes out of the mean; windows' errors stay
            lasting = min(parallax / max(total - 1.0, 1e-9) / WIDE_ENOUGH, 1.0)
            # the photo's own point is one of them, at 0
            spread = max(off_squares - off_sum * off_sum / total, 0.0) / max(total - squares / total, 1e-9)
            variance[j, i] = lasting * spread
            length = np.sqrt(accn[0] ** 2 + accn[1] ** 2 + accn[2] ** 2)
            for k in range(3):
                out[j, i, k] = acc[k] / total
                out_n[j, i, k] = accn[k] / max(length, 1e-12)
            views[j, i] = min(count, 255)
            rank[j, i] = np.int64(np.floor(np.log(mine) / rank_step)) - (rim_steps if rim[j, i] else 0)


@njit(error_model="numpy", cache=True, parallel=True)
def give_way(
    points, views, rank, K, R, C, their_views, their_rank, depths, Ks, Rs, Cs, first, reproj, relative, apart, out
):  # fmt: skip
    """Which accepted pixels are given to the cloud.

    A pixel gives way where another photo has accepted the same spot and stands before this one in the one order of all
    photos (better rank, then lower number). It is dropped where half as many others as agree see through it: their own accepted
    surface lies behind.

    Parameters
    ----------
    points : (H, W, 3), views, rank : (H, W)
        Of the photo.
    their_views, their_rank, depths : (S, H', W')
        The same of other photos, and their depth maps.
    first : (S,) bool
        Other photos whose number is lower.
    apart : float
        Share of the depth by which a surface lies behind for a photo to see through a point.
    out : (H, W) uint8
        1 given, 2 gave way, 3 seen through.
    """
    h, w = views.shape
    for j_ in prange(h):
        j = np.int64(j_)
        Y = np.empty(3)
        for i in range(w):
            out[j, i] = 0
            if views[j, i] == 0:
                continue
            X = points[j, i]
            gives = False
            through = 0
            for s in range(depths.shape[0]):
                u, v, z = _seen(X, Ks[s], Rs[s], Cs[s])
                if z <= 0:
                    continue
                ui, vi = _pixel(u, v, depths.shape[2], depths.shape[1])
                if ui < 0:
                    continue
                if their_views[s, vi, ui] == 0:
                    continue
                if np.float64(depths[s, vi, ui]) > z * (1.0 + apart):
                    through += 1
                    continue
                ds = np.float64(depths[s, vi, ui])
                qx = (ui - Ks[s, 2]) / Ks[s, 0] * ds
                qy = (vi - Ks[s, 3]) / Ks[s, 1] * ds
                for k in range(3):
                    Y[k] = Rs[s, 0, k] * qx + Rs[s, 1, k] * qy + Rs[s, 2, k] * ds + Cs[s, k]
                eu, ev, zr = _seen(Y, K, R, C)
                _, _, mine = _seen(X, K, R, C)
                if zr <= 0 or (eu - i) ** 2 + (ev - j) ** 2 > reproj * reproj or abs(zr - mine) > relative * mine:
                    continue
                theirs = their_rank[s, vi, ui]
                if theirs > rank[j, i] or (theirs == rank[j, i] and first[s]):
                    gives = True
            # seen through counts before: what is not there covers nothing
            out[j, i] = 3 if 2 * through >= views[j, i] else 2 if gives else 1
