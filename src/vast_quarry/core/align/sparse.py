"""Which points of the sparse cloud are to be trusted: precise enough, and where their neighbours say a surface is.

Two photos agree about a false match as readily as about a true one, and a long thin angle leaves the depth open; such points
spoil the keep box, the range of depths and the picture.

References
----------
Rusu, R., Marton, Z., Blodow, N., Dolha, M., Beetz, M. (2008). Towards 3D point cloud based object maps for household
environments. Robotics and Autonomous Systems 56(11) (statistical removal by distances to neighbours).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

Array = NDArray[np.float64]

#: neighbours that are asked; how many times their usual spread about their plane a point may lie off it; how much further
#: than usual its neighbours may be; how many pixels at its distance it may be unsure by, and how many times what is usual
NEIGHBOURS, OFF_PLANE, LONELY, UNSURE_PX, UNUSUAL = 8, 2.0, 3.0, 4.0, 2.0


def trusted(points: Array, grain: Array, sigma: Array, views: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which points (N, 3) are to be trusted.

    Parameters
    ----------
    grain : (N,)
        Length of a photo's pixel at each point (ground sample distance).
    sigma : (N,)
        Stated standard deviation of each; nan where it is not known.
    views : (N,)
        Photos that see it: what four and more agree about needs no neighbours.
    """
    # where all photos stand close together no depth is sure: what is usual there is all there is
    unsure = sigma / grain
    usual = float(np.nanmedian(unsure)) if np.isfinite(unsure).any() else 0.0
    sure = ~(unsure > max(UNSURE_PX, UNUSUAL * usual))
    if len(points) < 5 * NEIGHBOURS:
        return sure
    far, near = cKDTree(points).query(points, k=NEIGHBOURS + 1)
    around = points[near[:, 1:]]
    middle = np.median(around, axis=1)
    off = around - middle[:, None]
    _, axes = np.linalg.eigh(np.einsum("nki,nkj->nij", off, off))
    normal = axes[:, :, 0]
    spread = 1.5 * np.median(np.abs(np.einsum("nki,ni->nk", off, normal)), axis=1) + 2 * grain
    on_plane = np.abs(((points - middle) * normal).sum(1)) < OFF_PLANE * spread
    # distances count against what is usual at that distance from the cameras
    reach = far[:, -1] / grain
    among = reach < LONELY * np.median(reach)
    return sure & ((on_plane & among) | (views >= 4))
