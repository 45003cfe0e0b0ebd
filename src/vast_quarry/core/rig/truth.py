"""The truth beside a rig set: cameras, surface, how many photos see each vertex, held-out views."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import INTRINSICS, Camera, project
from vast_quarry.core.raycast import RayScene, visible_from
from vast_quarry.core.rig.scenes import Scene
from vast_quarry.core.surface.mesh import vertex_normals

#: steepest angle in degrees at which a surface still counts as seen
STEEPEST = 84.0


def camera_entry(photo: str, camera: Camera, rotation: NDArray, center: NDArray, **more: Any) -> dict[str, Any]:
    """One camera as a JSON-ready dict."""
    lens = {n: float(getattr(camera, n)) for n in INTRINSICS}
    size = {"width": camera.width, "height": camera.height}
    return {"photo": photo, **size, **lens, "rotation": rotation.tolist(), "center": center.tolist(), **more}


def count_views(scene: Scene, rays: RayScene, views: list[tuple[Camera, NDArray, NDArray]]) -> NDArray[np.int32]:
    """Per vertex of the subject, how many photos see it (in frame, unblocked, below :data:`STEEPEST` degrees)."""
    v = scene.subject.vertices
    n = vertex_normals(v, scene.subject.faces)
    count = np.zeros(len(v), np.int32)
    for camera, rotation, center in views:
        px, depth = project(camera, rotation, center, v)
        to_camera = center - v
        cosine = (to_camera * n).sum(1) / np.linalg.norm(to_camera, axis=1)
        ok = (depth > 0) & (cosine > np.cos(np.radians(STEEPEST)))
        ok &= (px > 0).all(1) & (px < [camera.width - 1, camera.height - 1]).all(1)
        index = np.flatnonzero(ok)
        seen = visible_from(rays, v[index], n[index], center, 2e-4)
        count[index[seen]] += 1
    return count


def set_info(
    scene: Scene, name: str, views: list[tuple[Camera, NDArray, NDArray]], photos: list[str], defects: dict[Any, Any]
) -> dict[str, Any]:
    """Facts of a set that its measuring needs."""
    v = scene.subject.vertices
    v = v[v[:, 2] >= 0]
    low, high = v.min(0), v.max(0)
    middle = (low + high) / 2
    gsd = [np.linalg.norm(center - middle) / camera.fx for camera, _, center in views]
    return {
        "set": name,
        "gsd": float(np.median(gsd)),
        "object_size": float((high - low).max()),
        "object_center": middle.tolist(),
        "bbox_min": low.tolist(),
        "bbox_max": high.tolist(),
        "ground_z": 0.0,
        "z_cut": scene.z_cut,
        "usable": photos,
        "defects": defects,
    }


def truth_folder(out: Path) -> Path:
    """``out/truth`` with its folder of held-out views, made if need be."""
    (out / "truth" / "heldout").mkdir(parents=True, exist_ok=True)
    return out / "truth"
