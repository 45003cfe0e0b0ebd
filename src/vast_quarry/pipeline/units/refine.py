"""Units of the Surface step's refinement: photos made ready to be asked, and what they say of some vertices.

All that is needed lies as files in one folder and is mapped, not read: memory is bounded by the vertices of a unit, whatever the number and
size of photos.
"""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.formats.atomic import is_whole, write_arrays
from vast_quarry.core.mask.files import mask_at
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.refine import ASKED, Patches, Witness, chosen
from vast_quarry.core.texture.coloring import seen_of_mesh
from vast_quarry.pipeline.memory import give_back
from vast_quarry.pipeline.orders import PhotoOrder
from vast_quarry.pipeline.steps.masks import load_mask
from vast_quarry.pipeline.units.kept import keep_pictures, mapped_picture, picture_file, toned_photo

#: the surface as it was, by which it is told what photos see
FIRST = "mesh.npz"
#: what is kept of each photo
KINDS = ("gray", "depth", "ramp")
#: vertices that are looked at together
AT_ONCE = 10_000


def mesh_name(turn: int) -> str:
    """The file of the vertices that are asked about in a turn, with their normals."""
    return f"turn-{turn}.npz"


@lru_cache(1)
def _scene(folder: str) -> RayScene:
    scene = RayScene()
    with np.load(Path(folder) / FIRST) as f:
        scene.add(f["vertices"], f["faces"])
    return scene


def make_ready(folder: str, order: PhotoOrder) -> None:
    """Keep a photo's grey levels, and at half its size the depth of the mesh and how far inside of what it sees each pixel lies."""
    if all(picture_file(folder, order.row, kind).exists() for kind in KINDS):
        return
    mask = load_mask(order.mask)
    keep = None
    if mask is not None:
        keep = mask_at(mask, max(order.camera.width // 2, 1), max(order.camera.height // 2, 1))
    depth, ramp = seen_of_mesh(_scene(folder), order.camera, order.rotation, order.center, keep)
    gray = cv2.cvtColor(toned_photo(order), cv2.COLOR_RGB2GRAY)
    keep_pictures(folder, order.row, dict(zip(KINDS, (gray, depth, ramp))))


def _witness(folder: str, order: PhotoOrder) -> Witness:
    gray, depth, ramp = (mapped_picture(folder, order.row, k) for k in KINDS)
    return Witness(gray, depth, ramp, order.camera, order.rotation, order.center)


def said_file(folder: str, turn: int, first: int) -> Path:
    """Where a unit puts what the photos say."""
    return Path(folder) / f"said-{turn}-{first:09d}.npz"


def ask(folder: str, turn: int, first: int, last: int, orders: list[PhotoOrder]) -> None:
    """Write what the photos say of vertices ``first`` to ``last`` of the mesh of a turn: shifts, how sure they are, how photos agree now."""
    target = said_file(folder, turn, first)
    if is_whole(target):
        return
    if _scene.cache_info().currsize:
        # what photos see is known now
        _scene.cache_clear()
        give_back()
    with np.load(Path(folder) / mesh_name(turn)) as f:
        points, normals = (f[name][first:last].astype(np.float32) for name in ("vertices", "normals"))
    witnesses = [_witness(folder, o) for o in orders]
    centers = np.stack([o.center for o in orders]).astype(np.float32)
    focal = np.array([o.camera.fx for o in orders])
    parts = []
    for a in range(0, len(points), AT_ONCE):
        here = slice(a, a + AT_ONCE)
        parts.append(_asked(points[here], normals[here], witnesses, centers, focal))
    shift, sure, step, now = (np.concatenate(p) for p in zip(*parts))
    write_arrays(target, shift=shift, sure=sure, step=step, now=now)


def _asked(
    points: NDArray[np.float32],
    normals: NDArray[np.float32],
    witnesses: list[Witness],
    centers: NDArray,
    focal: NDArray,
) -> tuple[NDArray, NDArray, NDArray, NDArray]:
    weights = np.stack([w.weights(points, normals) for w in witnesses])
    photos = np.full((len(points), ASKED), -1, np.int32)
    chosen(weights, points, centers, photos)
    best = np.maximum(photos[:, 0], 0)
    gsd = (np.linalg.norm(centers[best] - points, axis=1) / focal[best]).astype(np.float32)
    patches = Patches(points, normals, photos, centers, gsd)
    for k in np.unique(patches.photos[patches.photos >= 0]).tolist():
        patches.add(k, witnesses[k])
    shift, sure, now = patches.found()
    return shift, sure, patches.step, now
