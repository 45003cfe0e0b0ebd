"""Depth maps by multi-view PatchMatch stereo with slanted planes.

The state of a pixel is a plane in inverse depth: ``w(u, v) = w0 + wx (u - u0) + wy (v - v0)``, which is exactly the
image of a plane in space, so that taking a plane over from a neighbour is two multiply-adds. With
``A = K_s R K_r^-1`` and ``b = K_s t`` the pixel ``p = (u, v, 1)`` at inverse depth ``w`` lands in a source photo at
``A p + w b`` (homogeneous); around it the window is mapped by the first derivative of that.

Cost: one minus the bilaterally weighted normalised cross-correlation over a window of 11 x 11 pixels (32 samples),
mean of the best ``keep`` of all source photos, whose numbers travel with the plane. Search: coarse to fine; on each
level sweeps over the two colours of a checkerboard: planes of neighbours near and far, then random changes, then on the finest
level a step of least squares. Where the photos are larger than the map, the planes that were found are moved by such steps to
where these agree best: what a map of that size would tell of each of its pixels, at a quarter of the price.

References
----------
Bleyer, M., Rhemann, C., Rother, C. (2011). PatchMatch Stereo - stereo matching with slanted support windows. BMVC.
Galliani, S., Lasinger, K., Schindler, K. (2015). Massively parallel multiview stereopsis by surface normal
diffusion. ICCV (checkerboard propagation).
Schoenberger, J., Zheng, E., Frahm, J.-M., Pollefeys, M. (2016). Pixelwise view selection for unstructured multi-view
stereo. ECCV (bilateral correlation).
Xu, Q., Tao, W. (2019). Multi-scale geometric consistency guided multi-view stereo. CVPR.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.dense import patchmatch_kernels as kernels
from vast_quarry.core.dense.curvature import MOMENT, POLISHED_MOMENT, unbent
from vast_quarry.core.dense.polish import Larger, polish
from vast_quarry.core.dense.sources import Sources, View, disparity_step

Floats = NDArray[np.float32]
#: cost up to which a plane says how the surface bends
SURE = 0.7
#: by how much less a sample of the window counts, of the square of its distance in pixels: wide while planes are looked for, narrow
#: where they are found. Narrower still is nearer the truth in clean photos (0.2: by 3 % of the median) and farther in noisy ones
WIDE, NARROW = 0.02, 0.15


@dataclass
class DepthMap:
    """Result for one photo.

    Attributes
    ----------
    depth : (H, W) float32
        Along the optical axis, 0 where unknown.
    normal : (H, W, 3) float32
        In the world, towards the camera. (int8, 127 to the unit, where it is only handed to what packs it so.)
    cost : (H, W) float32
        One minus correlation, 0 (same) to 2.
    """

    depth: Floats
    normal: Floats | NDArray[np.int8]
    cost: Floats


@dataclass(frozen=True)
class PatchMatchSettings:
    """How hard to search. ``sweeps`` from the finest level to the coarsest; ``refine`` random changes of each plane a sweep,
    ``steps`` of least squares on the finest level."""

    keep: int = 5
    sweeps: tuple[int, ...] = (1, 2, 6)
    refine: int = 2
    steps: int = 1
    sigma_color: float = 14.0
    smallest_var: float = 3.0
    seed: int = 1


def estimate_depth(
    ref: View,
    sources: list[View],
    nearest: Floats,
    farthest: Floats,
    active: NDArray[np.bool_],
    settings: PatchMatchSettings,
    seeds: tuple[NDArray[np.float64], NDArray[np.float64]] | None = None,
    check: Callable[[], None] = lambda: None,
    larger: Larger | None = None,
) -> DepthMap:
    """Depth map of one photo.

    Parameters
    ----------
    ref : View
    sources : list of View
        At least one; undistorted like ``ref``.
    nearest, farthest : (H, W) float32
        Bounds of the depth of every pixel.
    active : (H, W) bool
        Pixels to compute (mask and keep box).
    settings : PatchMatchSettings
    seeds : (pixels (N, 2), depth (N,)), optional
        Known depths (sparse points) to start from.
    check : callable
        Called between sweeps; may raise to cancel.
    larger : callable, optional
        Gives the same photos larger (View, iterable of View), to move the planes by that were found: asked when it comes to that,
        once for each band of the map.
    """
    if not sources:
        raise ValueError("a depth map needs at least one source photo")
    sources = sources[:60]
    keep = min(settings.keep, len(sources))
    levels = len(settings.sweeps)
    while levels > 1 and min(ref.gray.shape) >> (levels - 1) < 48:
        levels -= 1
    rng = np.random.default_rng(settings.seed)
    plane: Floats | None = None
    cost = chosen = None
    for level in range(levels - 1, -1, -1):
        view = ref.at_level(level)
        src = Sources(view, [s.at_level(level) for s in sources])
        shape = view.gray.shape
        on, near, far = _level_bounds(active, nearest, farthest, shape)
        spread = np.float32(disparity_step(view, sources, 1.0) * 2.0)
        if plane is None:
            plane = _random_planes(rng, near, far, view, seeds, ref)
        else:
            plane = _refined_planes(plane, shape)
            plane[..., 0] = np.clip(plane[..., 0], far, near)
        # on the finest level the photos that were best on the one before are asked first: over a larger part of the subject they are
        # told from those that are hidden more surely
        carried = chosen is not None and not level
        chosen = _nearest(chosen, shape) if chosen is not None and carried else np.zeros((*shape, keep), np.int8)
        cost = np.full(shape, 2.0, np.float32)
        shared = (src.tex, src.bases, src.sw, src.sh, src.A, src.b, src.views, keep)
        falloff = np.float32(WIDE if level else NARROW)
        kernels.score(
            view.gray, on, plane, cost, chosen, *shared, settings.sigma_color, falloff, settings.smallest_var, carried
        )
        for s in range(settings.sweeps[level]):
            check()
            first = level == levels - 1 and s < 3
            reach = np.float32(spread * (4.0 if first else 1.0) * 0.7**s)
            for color in (0, 1):
                kernels.sweep(
                    view.gray, on, near, far, plane, cost, chosen, *shared, color, settings.seed + 31 * s + color,
                    settings.sigma_color, falloff, reach, settings.refine, settings.smallest_var, s > 0,
                    0 if level else settings.steps,
                )  # fmt: skip
    assert plane is not None
    assert cost is not None
    assert chosen is not None
    if larger is not None:
        # what the larger photos do not need takes room that they need
        del src, shared, near, far, on
        sources = [replace(s, gray=s.gray[:1, :1].copy()) for s in sources]
        step = disparity_step(ref, sources, 1.0)
        polish(plane, chosen, active & (cost < SURE), larger, step, settings.sigma_color, settings.smallest_var, check)
    disparity = float(disparity_step(ref, sources, 1.0))
    return _as_depth_map(plane, cost, active, ref, disparity, MOMENT if larger is None else POLISHED_MOMENT)


def _level_bounds(
    active: NDArray[np.bool_], nearest: Floats, farthest: Floats, shape: tuple[int, ...]
) -> tuple[NDArray[np.bool_], Floats, Floats]:
    """Active pixels and bounds of inverse depth (greatest, least) at a level."""
    size = (shape[1], shape[0])
    if active.shape == shape:
        return active, (1.0 / nearest).astype(np.float32), (1.0 / farthest).astype(np.float32)
    on = cv2.resize(active.astype(np.uint8), size, interpolation=cv2.INTER_AREA) > 0
    on |= cv2.resize(active.astype(np.float32), size, interpolation=cv2.INTER_AREA) > 0.25
    near = cv2.resize((1.0 / nearest).astype(np.float32), size, interpolation=cv2.INTER_NEAREST)
    far = cv2.resize((1.0 / farthest).astype(np.float32), size, interpolation=cv2.INTER_NEAREST)
    return on, near, far


def _random_planes(
    rng: np.random.Generator,
    near: Floats,
    far: Floats,
    view: View,
    seeds: tuple[NDArray[np.float64], NDArray[np.float64]] | None,
    ref: View,
) -> Floats:
    """Random inverse depths within bounds, random gentle slopes; near seeds the seed's depth."""
    h, w = near.shape
    plane = np.zeros((h, w, 3), np.float32)
    plane[..., 0] = far + rng.random((h, w), dtype=np.float32) * (near - far)
    slope = plane[..., 0] / view.camera.fx
    plane[..., 1:] = rng.normal(0, 0.6, (h, w, 2)).astype(np.float32) * slope[..., None]
    if seeds is not None and len(seeds[0]):
        at = np.round((seeds[0] + 0.5) * (w / ref.camera.width) - 0.5).astype(int)
        inside = ((at >= 0) & (at < [w, h])).all(1)
        at, value = at[inside], (1.0 / seeds[1][inside]).astype(np.float32)
        ok = (value >= far[at[:, 1], at[:, 0]]) & (value <= near[at[:, 1], at[:, 0]])
        plane[at[ok, 1], at[ok, 0], 0] = value[ok]
    return plane


def _places(coarse: int, fine: int) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Where the pixels of a side lie on a coarser one, and the pixels there that hold them."""
    at = np.asarray((np.arange(fine) + 0.5) * (coarse / fine) - 0.5, np.float64)
    return at, np.clip(np.round(at).astype(np.int64), 0, coarse - 1)


def _nearest(picture: NDArray, shape: tuple[int, ...]) -> NDArray:
    """A picture of a coarser level as large as a finer one."""
    (_, j), (_, i) = _places(picture.shape[0], shape[0]), _places(picture.shape[1], shape[1])
    return picture[j[:, None], i]


def _refined_planes(plane: Floats, shape: tuple[int, ...]) -> Floats:
    """Planes of a coarser level carried to a finer one."""
    (v, j), (u, i) = _places(plane.shape[0], shape[0]), _places(plane.shape[1], shape[1])
    out = plane[j[:, None], i]
    out[..., 0] += out[..., 1] * (u - i)[None, :].astype(np.float32) + out[..., 2] * (v - j)[:, None].astype(np.float32)
    out[..., 1] *= np.float32(plane.shape[1] / shape[1])
    out[..., 2] *= np.float32(plane.shape[0] / shape[0])
    return out


def plane_normals(plane: Floats, camera: Camera, rotation: NDArray[np.float64]) -> Floats:
    """World normals (H, W, 3), towards the camera, of inverse-depth planes (H, W, 3).

    With ``w = w0 + wx (u - u0) + wy (v - v0)`` and ``u = fx X/Z + cx``, the plane in space is
    ``wx fx X + wy fy Y + (w0 + wx (cx - u0) + wy (cy - v0)) Z = 1``.
    """
    h, w = plane.shape[:2]
    u, v = np.arange(w, dtype=np.float32), np.arange(h, dtype=np.float32)[:, None]
    n = np.stack(
        [
            plane[..., 1] * camera.fx,
            plane[..., 2] * camera.fy,
            plane[..., 0] + plane[..., 1] * (camera.cx - u) + plane[..., 2] * (camera.cy - v),
        ],
        axis=-1,
    )
    n /= -np.maximum(np.linalg.norm(n, axis=-1, keepdims=True), 1e-12)
    # in single precision throughout: of a map of ten million pixels double takes a quarter of a gigabyte
    return np.asarray(n @ rotation.astype(np.float32), np.float32)


def _as_depth_map(
    plane: Floats, cost: Floats, active: NDArray[np.bool_], ref: View, disparity: float, moment: float
) -> DepthMap:
    ok = active & (plane[..., 0] > 0) & (cost < 1.5)
    w = unbent(plane[..., 0], ok & (cost < SURE), disparity, moment)
    ok &= w > 0
    depth = np.where(ok, 1.0 / np.where(ok, w, 1.0), 0.0).astype(np.float32)
    return DepthMap(depth, plane_normals(plane, ref.camera, ref.rotation), cost)
