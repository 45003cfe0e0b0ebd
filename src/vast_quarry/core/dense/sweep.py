"""Depth maps by a plane sweep with semi-global smoothing: coarse, but whole where surfaces are plain.

At each of a number of inverse depths the other photos are laid over the reference as if all lay there; windows of 7 x 7 pixels are
compared by normalised cross-correlation with a floor for noise, so that windows that only hold noise say nothing instead of
anything. The better half of the photos counts. Costs are then carried along eight paths, where a step to the next depth costs
little and a larger one more, less so across edges of grey: where windows say nothing, neighbours speak. Whole steps are then evened
out: depths become harmonic between places that are sure, by as much as their own windows are not.

References
----------
Collins, R. (1996). A space-sweep approach to true multi-image matching. CVPR.
Hirschmueller, H. (2008). Stereo processing by semiglobal matching and mutual information. IEEE TPAMI 30(2).
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense import sweep_kernels as kernels
from vast_quarry.core.dense.patchmatch import DepthMap
from vast_quarry.core.dense.sources import Sources, View

Floats = NDArray[np.float32]


#: neighbours more than so many steps of depth apart are of two surfaces; how much a sure window counts against a neighbour; turns of
#: relaxation
APART, FIRM, TURNS = 1.6, 4.0, 60


@dataclass(frozen=True)
class SweepSettings:
    """How a sweep goes.

    ``step`` between depths in pixels of a usual source photo, ``least`` and ``most`` depths; what a step of one depth costs
    (``small``) and a larger one (``large``), which edges of ``fade`` grey levels halve; ``noise`` of photos in grey levels.
    """

    step: float = 1.0
    least: int = 24
    most: int = 96
    small: float = 0.06
    large: float = 0.5
    fade: float = 12.0
    noise: float = 2.0


def swept_depths(ref: View, sources: list[View], near: float, far: float, settings: SweepSettings) -> Floats:
    """Inverse depths of a sweep between two depths, evenly apart: about ``step`` pixels in a usual source photo."""
    corners = np.array([[0, 0, 1], [ref.camera.width - 1, 0, 1], [0, ref.camera.height - 1, 1],
                        [(ref.camera.width - 1) / 2, (ref.camera.height - 1) / 2, 1]], float)  # fmt: skip
    spans = []
    for s in sources:
        a, b = _between(ref, s)
        ends = [corners @ a.T + w * b for w in (1 / near, 1 / far)]
        ok = (ends[0][:, 2] > 0) & (ends[1][:, 2] > 0)
        if ok.any():
            one, two = (e[ok, :2] / e[ok, 2:] for e in ends)
            spans.append(float(np.median(np.linalg.norm(one - two, axis=1))))
    pixels = float(np.median(spans)) if spans else 0.0
    count = int(np.clip(np.ceil(pixels / settings.step) + 1, settings.least, settings.most))
    return np.linspace(1 / far, 1 / near, count, dtype=np.float32)


def _between(ref: View, source: View) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """``A`` (3, 3) and ``b`` (3,): a pixel p of the reference at inverse depth w lands at ``A p + w b`` in the source."""
    k = source.camera.matrix
    turn = k @ (source.rotation @ ref.rotation.T) @ np.linalg.inv(ref.camera.matrix)
    return turn, k @ (source.rotation @ (ref.center - source.center))


def sweep_depth(
    ref: View,
    sources: list[View],
    near: float,
    far: float,
    active: NDArray[np.bool_],
    settings: SweepSettings | None = None,
) -> DepthMap:
    """Depth map of one photo.

    Parameters
    ----------
    ref : View
    sources : list of View
        At least one, undistorted like ``ref``.
    near, far : float
        Bounds of depth.
    active : (H, W) bool
        Pixels that are wanted.
    settings : SweepSettings, optional

    Returns
    -------
    DepthMap
        With 0 where nothing is wanted; normals from the slope of the depths.
    """
    if not sources:
        raise ValueError("a sweep needs at least one source photo")
    s = settings or SweepSettings()
    depths = swept_depths(ref, sources, near, far, s)
    packed = Sources(ref, sources)
    shape = ref.gray.shape
    gray = ref.gray.astype(np.float32) - 128
    noise = np.float32(s.noise**2)
    cost = np.empty((*shape, len(depths)), np.uint8)
    kernels.volume(
        gray, *kernels.moments(gray, noise), packed.tex, packed.bases, packed.sw, packed.sh, packed.A, packed.b, depths, noise, cost
    )  # fmt: skip
    total = np.zeros(cost.shape, np.float32)
    kernels.carried(
        cost,
        ref.gray,
        np.float32(s.small * kernels.UNIT),
        np.float32(s.large * kernels.UNIT),
        np.float32(s.fade),
        total,
    )
    at, sure = np.empty(shape, np.float32), np.empty(shape, np.float32)
    kernels.chosen(total, cost, at, sure)
    ends = (at <= 0.5) | (at >= len(depths) - 1.5)
    kernels.relaxed(at, sure, ref.gray, np.float32(s.fade), np.float32(APART), np.float32(FIRM), TURNS)
    step = (depths[-1] - depths[0]) / max(len(depths) - 1, 1)
    inverse = depths[0] + at * step
    # at either end the surface may lie beyond
    ok = active & ~ends
    depth = np.where(ok, 1 / np.maximum(inverse, np.float32(1e-12)), 0).astype(np.float32)
    return DepthMap(depth, slope_normals(depth, ref.camera, ref.rotation), np.where(ok, sure, 2).astype(np.float32))


def slope_normals(depth: Floats, camera: Camera, rotation: NDArray[np.float64], smooth: float = 1.5) -> Floats:
    """Normals (H, W, 3) in the world, towards the camera, from the slope of depths (H, W); straight at it where there is none."""
    known = depth > 0
    w = np.where(known, 1 / np.where(known, depth, 1), 0).astype(np.float32)
    weight = cv2.GaussianBlur(known.astype(np.float32), (0, 0), smooth)
    even = cv2.GaussianBlur(w, (0, 0), smooth) / np.maximum(weight, 1e-6)
    wy, wx = np.gradient(even)
    v, u = np.meshgrid(np.arange(depth.shape[0]), np.arange(depth.shape[1]), indexing="ij")
    n = np.stack(
        [wx * camera.fx, wy * camera.fy, even + wx * (camera.cx - u) + wy * (camera.cy - v)], axis=-1
    )  # the plane of inverse depths in space, as in .patchmatch
    n /= -np.maximum(np.linalg.norm(n, axis=-1, keepdims=True), 1e-12)
    n[~known] = (0, 0, -1)
    return np.asarray(n @ rotation.astype(np.float32), np.float32)
