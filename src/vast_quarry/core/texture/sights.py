"""Which photos see a spot of a surface, and which of them best.

Ranked as the texture weighs photos (see :mod:`.coloring`): square of the cosine of the viewing angle, square of the resolution
there, and how much of a patch about the spot nothing hides.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera, project, view_limit
from vast_quarry.core.raycast import RayScene, visible_from
from vast_quarry.core.texture.coloring_kernels import FLATTEST

Array = NDArray[np.float64]

#: places along each side of a patch; it is seen where half of them are, and they are lifted by a part of its side, for a surface is rough
EACH, SEEN, LIFTED = 3, 0.5, 0.25


@dataclass(frozen=True)
class Sight:
    """A photo that sees a spot.

    Attributes
    ----------
    row : int
        Row of the photo in the alignment.
    at : (2,)
        Pixel of the spot.
    outline : (4 (EACH - 1), 2)
        Pixels round the patch.
    angle : float
        Between the line of sight and the normal, in degrees.
    gsd : float
        World units per pixel at the spot, square to the line of sight.
    clear : float
        Share of the patch that nothing hides.
    weight : float
        How good, in units of the best one's.
    """

    row: int
    at: Array
    outline: Array
    angle: float
    gsd: float
    clear: float
    weight: float


def normal_about(spot: Array, vertices: Array, normals: Array, reach: float) -> Array:
    """Mean normal (3,) of the vertices (N, 3) that lie within ``reach`` of a spot; of the nearest one where none does."""
    off = np.linalg.norm(vertices - spot, axis=1)
    mean = normals[off <= max(reach, float(off.min()))].sum(0)
    return np.asarray(mean / max(float(np.linalg.norm(mean)), 1e-12))


def sights(
    spot: Array,
    normal: Array,
    side: float,
    scene: RayScene,
    rows: Sequence[int],
    lenses: Sequence[Camera],
    rotations: Array,
    centers: Array,
) -> list[Sight]:
    """Photos that see a spot (3,), best first.

    Parameters
    ----------
    spot, normal : (3,)
    side : float
        Of the square patch about it, in world units.
    scene : RayScene
        The surface.
    rows, lenses, rotations (n, 3, 3), centers (n, 3)
        The photos that may see it.
    """  # fmt: skip
    across = np.cross(normal, np.eye(3)[np.argmin(np.abs(normal))])
    across /= np.linalg.norm(across)
    up = np.cross(normal, across)
    step = np.linspace(-0.5, 0.5, EACH) * side
    grid = np.array([spot + a * across + b * up for b in step for a in step])
    ring = [*range(EACH - 1), *(k * EACH - 1 for k in range(1, EACH)), *(EACH * EACH - 1 - k for k in range(EACH - 1)),
            *(k * EACH for k in range(EACH - 1, 0, -1))]  # fmt: skip
    found = []
    for row, lens, rotation, center in zip(rows, lenses, rotations, centers):
        line = center - spot
        cosine = float(normal @ line / np.linalg.norm(line))
        if cosine < FLATTEST:
            continue
        seen, depth = project(lens, rotation, center, np.concatenate([spot[None], grid]))
        inside = (seen >= 0).all(1) & (seen <= [lens.width - 1, lens.height - 1]).all(1) & (depth > 0)
        bent = ((grid - center) @ rotation.T)[:, :2] / np.maximum(depth[1:, None], 1e-12)
        inside[1:] &= (bent**2).sum(1) < view_limit(lens)
        if not inside[0]:
            continue
        clear = visible_from(scene, grid, np.broadcast_to(normal, grid.shape), center, LIFTED * side) & inside[1:]
        if clear.mean() < SEEN:
            continue
        gsd = float(depth[0]) / lens.fx
        angle = float(np.degrees(np.arccos(min(cosine, 1.0))))
        good = cosine**2 / gsd**2 * float(clear.mean())
        found.append(Sight(row, seen[0], seen[1:][ring], angle, gsd, float(clear.mean()), good))
    found.sort(key=lambda s: -s.weight)
    best = found[0].weight if found else 1.0
    return [Sight(s.row, s.at, s.outline, s.angle, s.gsd, s.clear, s.weight / best) for s in found]
