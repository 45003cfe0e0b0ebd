"""From depth maps to one oriented, coloured cloud.

A pixel's point counts when enough other photos have, at the place where it projects to, a point of their own that
comes back to within a pixel and a small share of the depth. The agreeing points are averaged. Of the photos that agree
on a spot only the one that sees it best (closest and most square-on) gives the point, so nothing is counted twice and
no memory of other photos is needed: every photo is a unit of work of its own.

References
----------
Galliani, S., Lasinger, K., Schindler, K. (2015). Massively parallel multiview stereopsis by surface normal
diffusion. ICCV (fusion by consistency of depth and reprojection).
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense.patchmatch import DepthMap

Array = NDArray[np.float64]


@dataclass
class Cloud:
    """Points (N, 3), unit normals (N, 3), colours (N, 3) uint8, photos that agree (N,), GSD in world units (N,)."""

    points: Array
    normals: NDArray[np.float32]
    colors: NDArray[np.uint8]
    views: NDArray[np.int32]
    gsd: NDArray[np.float32]


@njit(cache=True, parallel=True)
def _fuse(
    depth,
    normal,
    cost,
    K,
    R,
    C,
    depths,
    normals,
    Ks,
    Rs,
    Cs,
    reproj,
    relative,
    most_cost,
    least,
    out,
    out_n,
    views,
    own,
):
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
            if d <= 0.0 or cost[j, i] > most_cost:
                continue
            x = (i - K[2]) / K[0] * d
            y = (j - K[3]) / K[1] * d
            for k in range(3):
                X[k] = R[0, k] * x + R[1, k] * y + R[2, k] * d + C[k]
                acc[k] = X[k]
                accn[k] = normal[j, i, k]
            to = np.sqrt((C[0] - X[0]) ** 2 + (C[1] - X[1]) ** 2 + (C[2] - X[2]) ** 2)
            mine = 0.0
            for k in range(3):
                mine += (C[k] - X[k]) * accn[k]
            mine = mine / to * K[0] / d
            best = True
            count = 1
            for s in range(sources):
                a = X[0] - Cs[s, 0]
                b = X[1] - Cs[s, 1]
                c = X[2] - Cs[s, 2]
                z = Rs[s, 2, 0] * a + Rs[s, 2, 1] * b + Rs[s, 2, 2] * c
                if z <= 0:
                    continue
                u = (Rs[s, 0, 0] * a + Rs[s, 0, 1] * b + Rs[s, 0, 2] * c) / z * Ks[s, 0] + Ks[s, 2]
                v = (Rs[s, 1, 0] * a + Rs[s, 1, 1] * b + Rs[s, 1, 2] * c) / z * Ks[s, 1] + Ks[s, 3]
                ui = np.int64(np.round(u))
                vi = np.int64(np.round(v))
                if ui < 0 or vi < 0 or ui >= depths.shape[2] or vi >= depths.shape[1]:
                    continue
                ds = np.float64(depths[s, vi, ui])
                if ds <= 0 or abs(ds - z) > 3 * relative * z:
                    continue
                # depth of the source's plane at the exact place, not at the middle of its pixel
                px = (ui - Ks[s, 2]) / Ks[s, 0]
                py = (vi - Ks[s, 3]) / Ks[s, 1]
                qx = (u - Ks[s, 2]) / Ks[s, 0]
                qy = (v - Ks[s, 3]) / Ks[s, 1]
                n0 = 0.0
                n1 = 0.0
                n2 = 0.0
                for k in range(3):
                    n0 += Rs[s, 0, k] * normals[s, vi, ui, k]
                    n1 += Rs[s, 1, k] * normals[s, vi, ui, k]
                    n2 += Rs[s, 2, k] * normals[s, vi, ui, k]
                den = n0 * qx + n1 * qy + n2
                if den > -0.05:
                    continue
                ds = ds * (n0 * px + n1 * py + n2) / den
                if abs(ds - z) > relative * z:
                    continue
                gx = qx * ds
                gy = qy * ds
                for k in range(3):
                    Y[k] = Rs[s, 0, k] * gx + Rs[s, 1, k] * gy + Rs[s, 2, k] * ds + Cs[s, k]
                a = Y[0] - C[0]
                b = Y[1] - C[1]
                c = Y[2] - C[2]
                zr = R[2, 0] * a + R[2, 1] * b + R[2, 2] * c
                if zr <= 0:
                    continue
                eu = (R[0, 0] * a + R[0, 1] * b + R[0, 2] * c) / zr * K[0] + K[2] - i
                ev = (R[1, 0] * a + R[1, 1] * b + R[1, 2] * c) / zr * K[1] + K[3] - j
                if eu * eu + ev * ev > reproj * reproj:
                    continue
                agree = 0.0
                for k in range(3):
                    agree += normals[s, vi, ui, k] * normal[j, i, k]
                if agree < 0.3:
                    continue
                count += 1
                theirs = 0.0
                to = 0.0
                for k in range(3):
                    acc[k] += Y[k]
                    accn[k] += normals[s, vi, ui, k]
                    theirs += (Cs[s, k] - Y[k]) * normals[s, vi, ui, k]
                    to += (Cs[s, k] - Y[k]) ** 2
                theirs = theirs / np.sqrt(to) * Ks[s, 0] / ds
                if theirs > mine * 1.02 or (theirs >= mine * 0.98 and own[s + 1] < own[0]):
                    best = False
            if count < least:
                continue
            length = np.sqrt(accn[0] ** 2 + accn[1] ** 2 + accn[2] ** 2)
            for k in range(3):
                out[j, i, k] = acc[k] / count
                out_n[j, i, k] = accn[k] / max(length, 1e-12)
            views[j, i] = count if best else -count


def _intrinsics(camera: Camera) -> Array:
    return np.array([camera.fx, camera.fy, camera.cx, camera.cy])


def fuse_photo(
    number: int,
    ref: DepthMap,
    pose: tuple[Camera, Array, Array],
    colors: NDArray[np.uint8],
    sources: list[tuple[int, DepthMap, Camera, Array, Array]],
    least_views: int = 3,
    reprojection: float = 1.0,
    relative: float = 0.003,
    most_cost: float = 0.7,
) -> tuple[Cloud, NDArray[np.int32]]:
    """Points that one photo gives to the cloud.

    Parameters
    ----------
    number : int
        Number of the photo; breaks ties between photos that see a spot equally well.
    ref : DepthMap
    pose : (Camera, rotation (3, 3), centre (3,))
    colors : (H, W, 3) uint8
        The undistorted photo.
    sources : list of (number, DepthMap, Camera, rotation, centre)
    least_views : int
        Photos that have to agree, this one included.
    reprojection : float
        Greatest way back in pixels.
    relative : float
        Greatest difference of depth as a share of it.

    Returns
    -------
    cloud : Cloud
    agreeing : (H, W) int32
        Photos that agree on each pixel (0: too few).
    """
    camera, rotation, center = pose
    h = max([ref.depth.shape[0], *[s[1].depth.shape[0] for s in sources]])
    w = max([ref.depth.shape[1], *[s[1].depth.shape[1] for s in sources]])
    depths = np.zeros((len(sources), h, w), np.float32)
    normals = np.zeros((len(sources), h, w, 3), np.float32)
    for k, (_, d, *_) in enumerate(sources):
        depths[k, : d.depth.shape[0], : d.depth.shape[1]] = np.where(d.cost <= most_cost, d.depth, 0)
        normals[k, : d.depth.shape[0], : d.depth.shape[1]] = d.normal
    shape = ref.depth.shape
    out, out_n = np.zeros((*shape, 3)), np.zeros((*shape, 3), np.float32)
    views = np.zeros(shape, np.int32)
    own = np.array([number, *[s[0] for s in sources]], np.int64)
    _fuse(
        ref.depth, ref.normal, ref.cost, _intrinsics(camera), rotation, center, depths, normals,
        np.stack([_intrinsics(s[2]) for s in sources]) if sources else np.zeros((0, 4)),
        np.stack([s[3] for s in sources]) if sources else np.zeros((0, 3, 3)),
        np.stack([s[4] for s in sources]) if sources else np.zeros((0, 3)),
        reprojection, relative, most_cost, least_views, out, out_n, views, own,
    )  # fmt: skip
    pick = views > 0
    gsd = (ref.depth[pick] / camera.fx).astype(np.float32)
    return Cloud(out[pick], out_n[pick], colors[pick], views[pick], gsd), np.abs(views)


def merged(clouds: list[Cloud]) -> Cloud:
    """Several clouds as one."""
    return Cloud(
        np.concatenate([c.points for c in clouds]),
        np.concatenate([c.normals for c in clouds]),
        np.concatenate([c.colors for c in clouds]),
        np.concatenate([c.views for c in clouds]),
        np.concatenate([c.gsd for c in clouds]),
    )
