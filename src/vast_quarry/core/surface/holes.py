"""Closing a mesh: holes found as loops of open edges; flat ones triangulated, others closed by a fan."""

from __future__ import annotations

import manifold3d
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.surface.mesh import open_edges

Array = NDArray[np.float64]
Faces = NDArray[np.int64]


def boundary_loops(faces: Faces) -> list[NDArray[np.int64]]:
    """Closed loops of vertices along open edges, in the sense in which new faces would turn."""
    after: dict[int, list[int]] = {}
    for a, b in open_edges(faces).tolist():
        after.setdefault(b, []).append(a)  # against the sense of the face beside it
    loops = []
    while after:
        start = next(iter(after))
        loop, at = [start], start
        place = {start: 0}
        while True:
            options = after.get(at)
            if not options:
                break
            to = options.pop()
            if not options:
                del after[at]
            cut = place.get(to)
            if cut is not None:  # a smaller loop within, where two meet in a point
                loops.append(np.array(loop[cut:]))
                for gone in loop[cut + 1 :]:
                    del place[gone]
                loop, at = loop[: cut + 1], to
                if cut == 0 and to not in after:
                    break
                continue
            place[to] = len(loop)
            loop.append(to)
            at = to
    return [x for x in loops if len(x) >= 3]


def flat_triangles(rim: Array) -> Faces | None:
    """Triangles of a flat closed polygon (K, 3) in its sense of turning; None when it is not flat or crosses itself."""
    middle = rim.mean(0)
    _, spread, axes = np.linalg.svd(rim - middle, full_matrices=False)
    if len(rim) < 4 or spread[2] > 1e-4 * spread[1]:
        return None
    flat = (rim - middle) @ axes[:2].T
    x, y = flat.T
    area = float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2)
    if area < 0:
        flat = flat * [1.0, -1.0]
    try:
        triangles = np.asarray(manifold3d.triangulate([np.ascontiguousarray(flat)], 1e-9, True)).astype(np.int64)
    except (RuntimeError, ValueError):
        return None
    return triangles if len(triangles) == len(rim) - 2 else None


def close_holes(vertices: Array, faces: Faces, largest: float = np.inf) -> tuple[Array, Faces]:
    """Close every hole no more than ``largest`` across: flat ones (cuts) by triangulating them, others by a fan about the middle of their rim."""
    new_v, new_f = [vertices], [faces]
    count = len(vertices)
    for loop in boundary_loops(faces):
        if np.linalg.norm(np.ptp(vertices[loop], axis=0)) > largest:
            continue
        if len(loop) == 3:
            new_f.append(loop[None])
            continue
        flat = flat_triangles(vertices[loop])
        if flat is not None:
            new_f.append(loop[flat])
            continue
        new_v.append(vertices[loop].mean(0, keepdims=True))
        new_f.append(np.stack([loop, np.roll(loop, -1), np.full(len(loop), count)], 1))
        count += 1
    return np.concatenate(new_v), np.concatenate(new_f)
