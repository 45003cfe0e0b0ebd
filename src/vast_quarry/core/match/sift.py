"""SIFT: blobs found in a pyramid of ever softer pictures, and descriptors of what is about them.

The photo is made twice as large, and each octave softened in six steps. Extrema of the differences of layers are placed
between pixels and layers by a parabola; those of little contrast and those on edges are dropped (Lowe 2004, sections 3 and
4). What is kept of them is up to the caller: directions and descriptors (sections 5 and 6) are worked out for those only,
from the pyramid that found them. Differences are never stored, and layers are freed with their octave.

The detector agrees with OpenCV's, which a test holds; descriptors lie about the place between pixels, not about the nearest
pixel.

References
----------
Lowe, D. G. (2004). Distinctive image features from scale-invariant keypoints. IJCV 60(2), 91-110.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.match import sift_gradients as gradients
from vast_quarry.core.match import sift_kernels as kernels
from vast_quarry.core.match.sift_kernels import LAYERS, SIGMA

Floats = NDArray[np.float32]
#: softness that a photo has before anything is done to it
CAMERA = 0.5
#: least height of an extremum (grey values) and greatest ratio of its curvatures
CONTRAST, EDGE = 0.02 * 255 / LAYERS, 12.0
#: peaks of at least this share of the highest are directions too
ALSO = 0.8
#: sides of the smallest octave
SMALLEST = 12


@dataclass(frozen=True)
class Blobs:
    """Extrema of a pyramid.

    Attributes
    ----------
    xy : (N, 2) float32
        Pixels of the photo, centres at integers.
    scale : (N,) float32
        Sigma of the blob in pixels of the photo.
    response : (N,) float32
        Height in grey values.
    octave, layer : (N,) int32
        Where they were found; octave 0 is twice as large as the photo.
    """

    xy: Floats
    scale: Floats
    response: Floats
    octave: NDArray[np.int32]
    layer: NDArray[np.int32]

    def __len__(self) -> int:
        return len(self.xy)


@dataclass(frozen=True)
class Described:
    """Features: which blob each is of, its direction in radians, its histograms (K, 128) float32."""

    blob: NDArray[np.int64]
    direction: Floats
    descriptors: Floats


def octaves_of(gray: NDArray[np.uint8]) -> Iterator[Floats]:
    """Octaves (6, H, W) of a grey picture, one after the other, the first twice as large."""
    high, wide = gray.shape
    double = np.array([[0.5, 0, 0], [0, 0.5, 0]], np.float32)
    base = cv2.warpAffine(
        gray.astype(np.float32), double, (2 * wide, 2 * high),
        flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REFLECT,
    )  # fmt: skip
    base = cv2.GaussianBlur(base, (0, 0), float(np.sqrt(SIGMA**2 - (2 * CAMERA) ** 2)))
    step = 2.0 ** (1 / LAYERS)
    while min(base.shape) >= SMALLEST:
        stack = np.empty((LAYERS + 3, *base.shape), np.float32)
        stack[0] = base
        for k in range(1, LAYERS + 3):
            soft = SIGMA * step ** (k - 1) * float(np.sqrt(step**2 - 1))
            cv2.GaussianBlur(stack[k - 1], (0, 0), soft, dst=stack[k])
        base = np.ascontiguousarray(stack[LAYERS, ::2, ::2])
        yield stack
        del stack


def blobs(gray: NDArray[np.uint8], contrast: float = CONTRAST, edge: float = EDGE) -> tuple[Blobs, list[Floats]]:
    """Extrema of all octaves of a grey picture, coarse ones last; and of each octave the layers (3, H, W) that hold them.

    The other layers are given back with their octave: about 170 bytes a pixel of the picture are held at the most.
    """
    low = np.float32(0.5 * contrast)
    found, layers = [], []
    for stack in octaves_of(gray):
        found.append(kernels.refined(stack, kernels.candidates(stack, low), contrast, edge))
        layers.append(stack[1 : LAYERS + 1].copy())
        del stack
    octave = np.repeat(np.arange(len(found)), [len(f) for f in found]).astype(np.int32)
    rows = np.concatenate(found) if found else np.zeros((0, 5), np.float32)
    # an octave's pixels lie on every second of the one before, the first one's on every half
    unit = (0.5 * 2.0**octave).astype(np.float32)
    out = Blobs(
        rows[:, [kernels.X, kernels.Y]] * unit[:, None],
        rows[:, kernels.SCALE] * unit,
        rows[:, kernels.RESPONSE],
        octave,
        rows[:, kernels.LAYER].astype(np.int32),
    )
    return out, layers


def described(layers: list[Floats], found: Blobs, order: NDArray[np.int64], limit: int) -> Described:
    """Directions and descriptors of blobs, in this order until there are ``limit`` features; given in the order of blobs.

    A blob of several directions gives a feature for each.
    """
    turns = np.full((len(order), 4), np.nan, np.float32)

    def look(layer: Floats, rows: NDArray[np.int64], places: Floats) -> None:
        some = np.empty((len(rows), 4), np.float32)
        gradients.directions(layer, places, ALSO, some)
        turns[rows] = some

    _by_layer(layers, found, order, look)
    which, column = np.nonzero(np.isfinite(turns))
    first = np.argsort(order[which[:limit]], kind="stable")
    which, column = which[first], column[first]
    direction = turns[which, column]
    out = np.zeros((len(which), 4 * 4 * 8), np.float32)

    def write(layer: Floats, rows: NDArray[np.int64], places: Floats) -> None:
        some = np.empty((len(rows), 128), np.float32)
        gradients.describe(layer, np.column_stack([places, direction[rows]]), some)
        out[rows] = some

    _by_layer(layers, found, order[which], write)
    return Described(order[which], direction, out)


def _by_layer(
    layers: list[Floats],
    found: Blobs,
    order: NDArray[np.int64],
    work: Callable[[Floats, NDArray[np.int64], Floats], None],
) -> None:
    """Give ``work`` each layer with the rows of ``order`` that lie in it and their places there (N, 3), near ones together."""
    octave, layer = found.octave[order], found.layer[order]
    for o, stack in enumerate(layers):
        unit = np.float32(0.5 * 2.0**o)
        for k in range(1, LAYERS + 1):
            rows = np.flatnonzero((octave == o) & (layer == k))
            rows = rows[np.argsort(order[rows], kind="stable")]
            if len(rows):
                pick = order[rows]
                work(stack[k - 1], rows, np.column_stack([found.xy[pick], found.scale[pick]]) / unit)
