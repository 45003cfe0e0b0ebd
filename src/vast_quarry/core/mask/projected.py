"""Masks from the model: what was aligned or reconstructed is projected into all photos, with a margin, then set to their edges.

From a surface each pixel's ray says whether it meets the subject. From points alone the projected points are spread until they
close up to a shape. Either is rough at its rim, by the surface's own error or the points' spacing; within that margin the
colours of the photo decide.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from vast_quarry.core.camera import Camera, project, undistort
from vast_quarry.core.mask.edges import cut, enlarged, largest_parts, without_pinholes
from vast_quarry.core.photo.reading import scaled_size
from vast_quarry.core.raycast import RayScene

Mask = NDArray[np.bool_]
Array = NDArray[np.float64]
#: longer side at which the model is projected (pixels)
SIDE = 480


def small_lens(lens: Camera, side: int = SIDE) -> Camera:
    """A lens for the photo made smaller."""
    return lens.scaled(*scaled_size(lens.width, lens.height, min(1.0, side / max(lens.width, lens.height))))


def surface_seen(scene: RayScene, lens: Camera, rotation: Array, center: Array) -> Mask:
    """Where a photo (of ``lens``'s size) sees a surface."""
    v, u = np.meshgrid(np.arange(lens.height), np.arange(lens.width), indexing="ij")
    xy = undistort(np.stack([u, v], -1).reshape(-1, 2).astype(np.float64), lens)
    rays = np.concatenate([xy, np.ones((len(xy), 1))], 1) @ rotation
    origin = np.broadcast_to(center, rays.shape)
    hit = scene.cast(np.concatenate([origin, rays], 1).astype(np.float32))
    return np.asarray(np.isfinite(hit["t"]).reshape(lens.height, lens.width))


def points_seen(points: Array, lens: Camera, rotation: Array, center: Array, reach: float) -> Mask:
    """The shape that points (P, 3) make in a photo: spread by ``reach`` (their usual distance in the world), then closed."""
    out = np.zeros((lens.height, lens.width), np.uint8)
    px, depth = project(lens, rotation, center, points)
    with np.errstate(invalid="ignore"):
        inside = (depth > 1e-6) & (px >= -0.5).all(1) & (px < [lens.width - 0.5, lens.height - 0.5]).all(1)
    if not inside.any():
        return out > 0
    xy = np.round(px[inside]).astype(int)
    out[xy[:, 1], xy[:, 0]] = 1
    size = max(1, round(reach * lens.fx / float(np.median(depth[inside]))))
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * size + 1, 2 * size + 1))
    padded = np.pad(out, 4 * size + 2)
    spread = cv2.dilate(padded, disc)
    closed = cv2.morphologyEx(
        spread, cv2.MORPH_CLOSE, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (4 * size + 1,) * 2)
    )
    shape = cv2.erode(closed, disc)[4 * size + 2 : -4 * size - 2, 4 * size + 2 : -4 * size - 2]
    mask = largest_parts(shape > 0, 0.02)
    return without_pinholes(mask, 0.01 * max(float(mask.sum()), 1.0))


def usual_distance(points: Array, neighbors: int = 6) -> float:
    """How far points (P, 3) of a cloud lie from their neighbours, so that most of them join up."""
    some = points[:: max(1, len(points) // 4000)]
    near, _ = cKDTree(points).query(some, k=min(neighbors + 1, len(points)))
    return float(np.quantile(near[:, -1], 0.8)) if len(points) > 1 else 0.0


def set_to_edges(rgb: NDArray[np.uint8], shape: Mask, margin: float) -> tuple[Mask, float]:
    """A projected shape (h, w) set to the edges of its photo (H, W, 3); ``margin`` is a share of the longer side.

    Returns
    -------
    mask : (H, W) bool
    sure : float
        How much of the shape was kept (0 to 1).
    """
    if not shape.any():
        return np.zeros(rgb.shape[:2], bool), 0.0
    h, w = shape.shape
    small = np.asarray(cv2.resize(rgb, (w, h), interpolation=cv2.INTER_AREA), np.uint8)
    band = max(2, round(margin * max(h, w)))
    mask = cut(small, shape, band)
    mask = without_pinholes(largest_parts(mask, 0.02), 0.004 * max(float(mask.sum()), 1.0))
    # a cut that runs away found no edge there: the shape itself is better
    kept = float((mask & shape).sum() / max((mask | shape).sum(), 1))
    if kept < 0.75:
        mask = shape
    return enlarged(mask, rgb), kept
