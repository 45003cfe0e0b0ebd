"""Surface where there are no points: kept where lines of sight allow it, dropped where photos look through it.

A closed surface through a cloud bridges what was not seen, well where a plain side lies between edges that were, wildly where nothing
was. What photos know about free space tells the two apart: where a photo sees something behind a face, the face is not there. Where
several photos look at it squarely, none sees anything in front of it nor through it, it is kept as inferred; what nobody looks at is not.

References
----------
Labatut, P., Pons, J.-P., Keriven, R. (2009). Robust and efficient surface reconstruction from range data. Computer Graphics Forum 28(8).
Jancosek, M., Pajdla, T. (2014). Exploiting visibility information in surface reconstruction to preserve weakly supported surfaces.
International Scholarly Research Notices.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera, project
from vast_quarry.core.dense.patchmatch import DepthMap

Array = NDArray[np.float64]

#: what a photo sees this share of the depth behind a face (or in front of it) is behind it; cost up to which it is sure of that
BEHIND, SURE = 0.012, 0.45
#: a face is looked at from within so much (cosine) of its normal; so many photos have to
SQUARE, LOOKS = 0.2, 2
#: share of those that look at it or through it which may look through
THROUGH = 0.15


def sight(
    middles: Array, normals: Array, depth: DepthMap, camera: Camera, rotation: Array, center: Array, masked: bool
) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Which faces a photo looks through, and which it looks at without seeing anything else there.

    Parameters
    ----------
    middles, normals : (M, 3)
        Of the faces.
    depth : DepthMap
        Of the photo; where it is ``masked`` nothing of the subject lies where there is no depth.

    Returns
    -------
    through, looks : (M,) bool
    """
    pixels, z = project(camera, rotation, center, middles)
    with np.errstate(invalid="ignore"):
        at = np.round(np.where(z[:, None] > 0, pixels, -1)).astype(np.int64)
    h, w = depth.depth.shape
    inside = (z > 0) & (at >= 0).all(1) & (at[:, 0] < w) & (at[:, 1] < h)
    x, y = np.where(inside, at[:, 0], 0), np.where(inside, at[:, 1], 0)
    there, cost = depth.depth[y, x], depth.cost[y, x]
    sure = inside & (there > 0) & (cost <= SURE)
    through = sure & (there > z * (1 + BEHIND))
    if masked:
        through |= inside & (there <= 0)
    to = center - middles
    facing = (normals * to).sum(1) > SQUARE * np.linalg.norm(to, axis=1)
    hidden = sure & (there < z * (1 - BEHIND))
    return through, inside & facing & ~through & ~hidden


def allowed(through: NDArray[np.integer], looks: NDArray[np.integer]) -> NDArray[np.bool_]:
    """Which faces (M,) may be there, from how many photos look through them and at them."""
    return (looks >= LOOKS) & (through <= THROUGH * (through + looks))
