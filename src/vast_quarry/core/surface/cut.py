"""Cutting a mesh at planes; the cut stays open (see :mod:`vast_quarry.core.surface.holes` to close it)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.surface.mesh import compacted, open_edges, without_degenerate

Array = NDArray[np.float64]
Faces = NDArray[np.int64]


def cut_open(vertices: Array, faces: Faces, origin: Array, normal: Array) -> tuple[Array, Faces]:
    """Keep the side of a plane that ``normal`` points to; the cut stays open. See :func:`cut_with`."""
    v, f, _ = cut_with(vertices, faces, np.zeros((len(vertices), 0)), origin, normal)
    return v, f


def cut_with(
    vertices: Array, faces: Faces, attributes: Array, origin: Array, normal: Array
) -> tuple[Array, Faces, Array]:
    """Keep the side of a plane that ``normal`` points to; faces across it are split.

    ``attributes`` (N, k), such as normals and UV, are carried along and interpolated at the cut. Vertices closer to the plane than a millionth of the mesh's extent count as on it, so that no slivers arise.
    """
    if not len(faces):
        return vertices, faces, attributes
    h = (vertices - origin) @ normal
    snap = 1e-6 * float(np.ptp(vertices, axis=0).max())
    h[np.abs(h) < snap] = 0.0
    sign = np.sign(h).astype(np.int8)[faces]
    above, below = (sign > 0).any(1), (sign < 0).any(1)
    del sign
    whole = faces[~below & above]
    across = faces[below & above]
    if not len(across):
        if not len(whole):
            return vertices[:0], whole, attributes[:0]
        v, f, kept = compacted(vertices, whole)
        return v, f, attributes[kept]
    # crossing points, one for each edge that is cut
    edges = np.sort(np.concatenate([across[:, [0, 1]], across[:, [1, 2]], across[:, [2, 0]]]), axis=1)
    cut = h[edges[:, 0]] * h[edges[:, 1]] < 0
    unique, inverse = np.unique(edges[cut], axis=0, return_inverse=True)
    t = h[unique[:, 0]] / (h[unique[:, 0]] - h[unique[:, 1]])
    both = np.concatenate([vertices, attributes], axis=1)
    crossing = both[unique[:, 0]] + t[:, None] * (both[unique[:, 1]] - both[unique[:, 0]])
    flat = np.full(len(edges), -1)
    flat[cut] = len(vertices) + inverse.ravel()
    number = flat.reshape(3, -1)  # crossing on edges ab, bc, ca
    pieces = [whole]
    m = np.arange(len(across))
    s = np.sign(h[across]).astype(int)
    for k in range(3):  # turn each face so that its odd corner comes first
        a, b, c = across[:, k], across[:, (k + 1) % 3], across[:, (k + 2) % 3]
        sa, sb, sc = s[:, k], s[:, (k + 1) % 3], s[:, (k + 2) % 3]
        ab, bc, ca = number[k, m], number[(k + 1) % 3, m], number[(k + 2) % 3, m]
        one = (sa > 0) & (sb < 0) & (sc < 0)
        pieces.append(np.stack([a, ab, ca], 1)[one])
        two = (sa < 0) & (sb > 0) & (sc > 0)
        pieces.append(np.stack([ab, b, c], 1)[two])
        pieces.append(np.stack([ab, c, ca], 1)[two])
        on = (sa == 0) & (sb > 0) & (sc < 0)
        pieces.append(np.stack([a, b, bc], 1)[on])
        on = (sa == 0) & (sb < 0) & (sc > 0)
        pieces.append(np.stack([a, bc, c], 1)[on])
    v, f, _ = compacted(np.concatenate([both, crossing]), np.concatenate(pieces))
    return v[:, :3], without_degenerate(v[:, :3], f), v[:, 3:]


def led_down(vertices: Array, faces: Faces, height: float, base: float) -> tuple[Array, Faces]:
    """A mesh that ends at a height led straight down from there to ``base``, still open.

    Open edges that lie at ``height`` get an upright face each; those elsewhere stay as they are.
    """
    at = np.abs(vertices[:, 2] - height) <= 1e-6 * float(np.ptp(vertices, axis=0).max())
    rim = open_edges(faces)
    rim = rim[at[rim].all(1)]
    if not len(rim):
        return vertices, faces
    used, inverse = np.unique(rim, return_inverse=True)
    below = vertices[used].copy()
    below[:, 2] = base
    new = len(vertices) + inverse.reshape(rim.shape)
    a, b, under_a, under_b = rim[:, 0], rim[:, 1], new[:, 0], new[:, 1]
    walls = np.concatenate([np.stack([b, a, under_a], 1), np.stack([b, under_a, under_b], 1)])
    return np.concatenate([vertices, below]), np.concatenate([faces, walls])
