"""A still picture of a model: what is shown of it before the model itself is there."""

from __future__ import annotations

import io

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from vast_quarry.core.raycast import MISS, RayScene

Array = NDArray[np.float64]

#: where the first view of the world looks from, and its field of view (degrees): the picture and the world agree
FROM = (1.2, -2.4, 1.1)
FIELD = 42.0
SIDE = 520
_STONE = np.array([205.0, 196.0, 178.0])
_LIGHT = np.array([0.42, -0.62, 0.66])


def poster(
    vertices: Array,
    faces: NDArray[np.int64],
    uv: Array | None = None,
    texture: NDArray[np.uint8] | None = None,
    side: int = SIDE,
) -> NDArray[np.uint8]:
    """Picture of a mesh in the first view, square, clear where nothing is.

    Parameters
    ----------
    vertices : (N, 3), faces : (M, 3)
    uv : (N, 2), optional
        Texture coordinates, v down from the top of the texture.
    texture : (h, w, 3) uint8, optional
        Without it the surface is drawn plain under one slanting light.

    Returns
    -------
    (side, side, 4) uint8
        RGBA.
    """
    scene = RayScene()
    scene.add(vertices, faces)
    low, high = vertices.min(0), vertices.max(0)
    middle, radius = (low + high) / 2, 0.98 * float(np.linalg.norm(high - low)) / 2
    back = np.array(FROM) / np.linalg.norm(FROM)
    eye = middle + back * radius / np.sin(np.radians(FIELD / 2))
    right = np.cross([0.0, 0.0, 1.0], back)
    right /= np.linalg.norm(right)
    up = np.cross(back, right)
    n = 2 * side  # two rays a pixel and axis, averaged
    t = np.tan(np.radians(FIELD / 2)) * (2 * (np.arange(n) + 0.5) / n - 1)
    rays = np.empty((n, n, 6), np.float32)
    rays[..., :3] = eye
    rays[..., 3:] = -back + t[None, :, None] * right - t[:, None, None] * up
    hit = scene.cast(rays.reshape(-1, 6))
    seen = hit["face"] != MISS
    corner = faces[hit["face"][seen]]
    b = hit["uv"][seen].astype(float)
    weight = np.stack([1 - b.sum(1), b[:, 0], b[:, 1]], 1)
    out = np.zeros((n * n, 4), np.float32)
    if uv is not None and texture is not None:
        place = (uv[corner] * weight[..., None]).sum(1)
        h, w = texture.shape[:2]
        x = np.clip((place[:, 0] * w).astype(int), 0, w - 1)
        y = np.clip((place[:, 1] * h).astype(int), 0, h - 1)
        out[seen, :3] = texture[y, x]
    else:
        normal = np.cross(
            vertices[corner[:, 1]] - vertices[corner[:, 0]], vertices[corner[:, 2]] - vertices[corner[:, 0]]
        )
        normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
        shade = 0.35 + 0.65 * np.clip(normal @ (_LIGHT / np.linalg.norm(_LIGHT)), 0, 1)
        out[seen, :3] = _STONE * shade[:, None]
    out[seen, 3] = 255.0
    out[:, :3] *= out[:, 3:] / 255.0
    small = cv2.resize(out.reshape(n, n, 4), (side, side), interpolation=cv2.INTER_AREA)
    small[..., :3] /= np.maximum(small[..., 3:], 1e-3) / 255.0
    return np.clip(small + 0.5, 0, 255).astype(np.uint8)


def poster_bytes(
    vertices: Array, faces: NDArray[np.int64], uv: Array | None = None, texture: bytes | None = None
) -> bytes:
    """The picture as WebP."""
    picture = None
    if texture is not None:
        image = Image.open(io.BytesIO(texture))
        image.draft("RGB", (1024, 1024))
        picture = np.asarray(image.convert("RGB"))
    out = io.BytesIO()
    Image.fromarray(poster(vertices, faces, uv, picture)).save(out, "WEBP", quality=82)
    return out.getvalue()
