"""Texels of an atlas in bands of rows: which face each shows and where on it; and what lies between charts, filled."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.texture.packing import Atlas, raster_faces

#: rows beside a band that are looked at when what lies between charts is filled: mip maps reach no farther while they show anything
REACH = 64


@dataclass
class Texels:
    """Covered texels of a band.

    Attributes
    ----------
    row, column : (K,) int
        Within the band.
    face : (K,) int
    weights : (K, 3) float32
        Of the corners of the face; outside of it, on the rim of a chart, one of them is negative.
    """

    row: NDArray[np.int64]
    column: NDArray[np.int64]
    face: NDArray[np.int64]
    weights: NDArray[np.float32]

    def mix(self, values: NDArray, corner: NDArray[np.int64]) -> NDArray[np.float32]:
        """Values (K, d) from those of vertices (N, d); ``corner`` (M, 3) names the vertices of each face."""
        out = np.zeros((len(self.face), values.shape[-1]), np.float32)
        for k in range(3):
            out += self.weights[:, k : k + 1] * values[corner[self.face, k]].astype(np.float32)
        return out


def band_of_texels(atlas: Atlas, first: int, last: int) -> Texels:
    """Texels of rows ``first`` to ``last`` (not included) that charts cover."""
    face = raster_faces(atlas.uv, atlas.faces, atlas.size, first, last)
    row, column = np.nonzero(face >= 0)
    of = face[row, column].astype(np.int64)
    a, b, c = (atlas.uv[atlas.faces[of, k]] for k in range(3))
    e1, e2 = b - a, c - a
    det = e1[:, 0] * e2[:, 1] - e2[:, 0] * e1[:, 1]
    det = np.where(np.abs(det) < 1e-12, 1e-12, det)
    dx, dy = column - a[:, 0], row + first - a[:, 1]
    u = (dx * e2[:, 1] - e2[:, 0] * dy) / det
    v = (e1[:, 0] * dy - dx * e1[:, 1]) / det
    return Texels(row, column, of, np.stack([1 - u - v, u, v], 1).astype(np.float32))


def looked_up(picture: NDArray, uv: NDArray) -> NDArray:
    """Colours (K, 3) of a picture (H, W, 3) at texture coordinates (K, 2), origin at the top left, between texels by distance."""
    place = (uv * picture.shape[1::-1] - 0.5).astype(np.float32)
    # rows of a picture of places, for what maps pictures takes no longer side
    wide = 4096
    padded = np.zeros((-(-len(place) // wide) * wide, 2), np.float32)
    padded[: len(place)] = place
    x, y = padded.reshape(-1, wide, 2).transpose(2, 0, 1)
    found = cv2.remap(picture, x.copy(), y.copy(), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(found.reshape(-1, 3)[: len(place)], picture.dtype)


def fill_between(image: NDArray, covered: NDArray, rows: int = 1024) -> None:
    """Give what lies between charts the colour of the nearest covered texel, in place, so that mip maps do not bleed.

    Parameters
    ----------
    image : (H, W, k) uint8 or uint16
    covered : (H, W)
        0 where there is no chart.
    rows : int
        So many at a time, to bound memory. What has no chart within ``REACH`` rows takes the mean colour.
    """
    step = max(1, len(image) // 512)
    some = image[::step, ::step][covered[::step, ::step] != 0]
    mean = some.mean(0) if len(some) else np.full(image.shape[2], np.iinfo(image.dtype).max // 2)
    for first in range(0, len(image), rows):
        a, b = max(0, first - REACH), min(len(image), first + rows + REACH)
        there = covered[a:b] != 0
        here = slice(first - a, min(first + rows, len(image)) - a)
        between = ~there[here]
        target = image[first : first + rows]
        if not there.any():
            target[between] = (mean + 0.5).astype(image.dtype)
            continue
        _, label = cv2.distanceTransformWithLabels(
            (~there).astype(np.uint8), cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL
        )
        of = np.zeros((int(label.max()) + 1, image.shape[2]), image.dtype)
        of[label[there]] = image[a:b][there]
        target[between] = of[label[here][between]]
