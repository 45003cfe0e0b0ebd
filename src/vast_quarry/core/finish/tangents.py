"""Tangents of a textured mesh, as glTF 2.0 asks for: by MikkTSpace.

At each corner the directions in which the texture's first coordinate grows on the faces about it are averaged, weighed by the angle of
the face at that corner, each first laid into the plane of the vertex's normal. Faces whose texture is mirrored are no neighbours of
those that are not.

References
----------
Mikkelsen, M. (2008). Simulation of wrinkled surfaces revisited. Master's thesis, University of Copenhagen.
Khronos Group (2021). glTF 2.0 specification, 3.7.2.1: "the tangents SHOULD be calculated using the default MikkTSpace algorithms".
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.surface.mesh import normalised

Array = NDArray[np.float64]
Faces = NDArray[np.int64]


def tangents(vertices: Array, normals: Array, uv: Array, faces: Faces) -> Array:
    """Tangents (W, 4) of wedges: direction, and the sign of the bitangent ``sign * cross(normal, tangent)``.

    Parameters
    ----------
    vertices, normals : (W, 3)
        Wedges of different texture coordinates are different rows; rows that are alike in all three are one vertex here.
    uv : (W, 2)
        Origin at the top left.
    faces : (M, 3)
    """
    # the bitangent points to where the picture's upper side is: glTF's pictures begin at the top
    t = np.stack([uv[:, 0], 1 - uv[:, 1]], 1)
    p, q = vertices[faces], t[faces]
    d1, d2 = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    t1, t2 = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
    area = t1[:, 0] * t2[:, 1] - t1[:, 1] * t2[:, 0]
    sign = np.where(area >= 0, 1.0, -1.0)
    along = normalised(sign[:, None] * (t2[:, 1:] * d1 - t1[:, 1:] * d2))
    # wedges that are alike are one; mirrored faces have vertices of their own
    place = np.round(np.concatenate([vertices, normals, t], 1), 9)
    _, same = np.unique(place, axis=0, return_inverse=True)
    key = 2 * same.reshape(-1)[faces] + (sign > 0)[:, None]
    total = np.zeros((int(key.max(initial=0)) + 1, 3))
    for k in range(3):
        n = normals[faces[:, k]]
        direction = normalised(along - (along * n).sum(1, keepdims=True) * n)
        # the angle between both edges, in the plane of the normal
        a, b = p[:, (k + 1) % 3] - p[:, k], p[:, (k + 2) % 3] - p[:, k]
        a, b = (normalised(e - (e * n).sum(1, keepdims=True) * n) for e in (a, b))
        angle = np.arccos(np.clip((a * b).sum(1), -1, 1))
        weighed = direction * (angle * (np.abs(area) > 0))[:, None]
        for axis in range(3):
            total[:, axis] += np.bincount(key[:, k], weighed[:, axis], len(total))
    out = np.zeros((len(vertices), 4))
    out[:, 3] = 1
    # a wedge of faces of both kinds takes that of the last: there is no one right answer
    out[faces.ravel(), :3] = total[key.ravel()]
    out[faces.ravel(), 3] = np.repeat(sign, 3)
    n = normalised(normals)
    direction = normalised(out[:, :3] - (out[:, :3] * n).sum(1, keepdims=True) * n)
    # where the texture says nothing, any direction in the plane
    lost = np.linalg.norm(direction, axis=1) < 0.5
    if lost.any():
        axis = np.eye(3)[np.abs(n[lost]).argmin(1)]
        direction[lost] = normalised(np.cross(n[lost], axis))
    out[:, :3] = direction
    return out
