"""Photos laid onto the surface: how far what a photo shows lies off what the others show there, and the photo moved by it.

Cameras and surface are never quite right, so photos of one place lie off each other by parts of a pixel, and where a lens bends otherwise
than its model says, or the surface is off, by more. Averages stay soft there and seams show. Of every vertex it is known what all photos
show but for what is soft; a photo is moved, smoothly over its area, to where its own fine part is most like that of the others (least
squares over windows, Lucas and Kanade 1981, at two widths). It is moved only where that is told surely and is more than half a pixel;
if any is, all are asked once more, for those that lay right were held against one that did not.

References
----------
Lucas, B., Kanade, T. (1981). An iterative image registration technique with an application to stereo vision. IJCAI.
Eisemann, M., et al. (2008). Floating textures. Computer Graphics Forum 27(2) (photos moved by their flow before they are blended).
Zhou, Q.-Y., Koltun, V. (2014). Color map optimization for 3D reconstruction with consumer depth cameras. ACM TOG 33(4) (a grid of
shifts over each photo).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import view_limit
from vast_quarry.core.texture.coloring import PhotoView, grain, softened
from vast_quarry.core.texture.coloring_kernels import shown

Floats = NDArray[np.float32]

#: widths (standard deviation in pixels) at which photos are held against each other, the wide one for what lies far off
WIDTHS = (2.5, 1.2)
#: the same of what is soft, which light and exposure change
SOFT = 8.0
#: side of a cell of the grid of shifts in pixels, how far it looks about (standard deviation in cells), and the farthest shift in pixels
CELL, ABOUT, FARTHEST = 12, 2.5, 4.0
#: vertices that are asked at most, and photos of one place that are needed
MOST, FEWEST = 400_000, 3
#: expected error of a shift, in pixels, up to which it is believed; and from where to where a shift is taken up
SURE, LEAST, FULL = 0.15, 0.4, 0.6
#: rounds of least squares at each width
ROUNDS = 2
#: share of red, green and blue in brightness (ITU-R BT.601)
BRIGHTNESS = np.array([0.299, 0.587, 0.114], np.float32)


@dataclass
class Samples:
    """What a photo shows at vertices, without what is soft.

    Attributes
    ----------
    index : (K,) int32
        Vertices, of those that are asked.
    at : (K, 2) float32
        Pixels.
    value : (K, 2) float32
        Brightness at both widths.
    weight : (K,) float32
    """

    index: NDArray[np.int32]
    at: Floats
    value: Floats
    weight: Floats


def asked(count: int) -> NDArray[np.int64]:
    """Numbers of the vertices, of ``count``, that photos are laid by."""
    return np.arange(count) if count <= MOST else np.random.default_rng(1).permutation(count)[:MOST]


def fine_parts(view: PhotoView) -> list[Floats]:
    """The brightness of a photo (H, W) at both widths, without what is soft."""
    height, width = view.photo.shape[:2]
    levels = cv2.cvtColor(view.photo, cv2.COLOR_RGB2GRAY)
    soft = cv2.resize(softened(levels, view.ramp, SOFT), (width, height))
    gray = grain(levels) * levels.astype(np.float32)
    return [cv2.GaussianBlur(gray, (0, 0), w) - soft for w in WIDTHS]


def _looked_up(picture: Floats, at: Floats) -> Floats:
    """Values (K,) of a picture at pixels (K, 2)."""
    if not len(at):
        return np.zeros(0, np.float32)
    # the library takes no more than 32,766 lines: the places go into a sheet
    wide = 1024
    padded = np.zeros((-(-len(at) // wide) * wide, 2), np.float32)
    padded[: len(at)] = at
    sheet = padded.reshape(-1, wide, 2)
    found = cv2.remap(picture, sheet[..., 0], sheet[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(found.reshape(-1)[: len(at)], np.float32)


def samples(view: PhotoView, points: NDArray, normals: NDArray, unit: float, tolerance: float = 0.004) -> Samples:
    """What a photo shows of points (N, 3); ``unit``: typical pixels per world unit, to keep weights near one."""
    at, weight = np.zeros((len(points), 2), np.float32), np.zeros(len(points), np.float32)
    shown(
        np.ascontiguousarray(points, np.float32), np.ascontiguousarray(normals, np.float32), view.rotation, view.center,
        view.camera.vector, view_limit(view.camera), view.photo.shape[:2], view.depth, view.ramp, tolerance, at, weight,
    )  # fmt: skip
    index = np.flatnonzero(weight > 0).astype(np.int32)
    value = np.stack([_looked_up(f, at[index]) for f in fine_parts(view)], 1)
    return Samples(index, at[index], value, weight[index] / np.float32(max(unit, 1e-12) ** 2))


def _grid(shape: tuple[int, int]) -> tuple[int, int]:
    return -(-shape[0] // CELL), -(-shape[1] // CELL)


def _cells(at: Floats, grid: tuple[int, int]) -> NDArray[np.int64]:
    """Numbers of the cells that pixels (K, 2) lie in, row by row."""
    cell = np.clip((at / CELL).astype(np.int64), 0, [grid[1] - 1, grid[0] - 1])
    return np.asarray(cell[:, 1] * grid[1] + cell[:, 0])


def _in_cells(cell: NDArray[np.int64], grid: tuple[int, int], values: NDArray) -> Floats:
    """Sums of values (K,) over the cells (K,) they are in, spread over those about."""
    total = np.bincount(cell, values, grid[0] * grid[1]).reshape(grid)
    return np.asarray(cv2.GaussianBlur(total.astype(np.float32), (0, 0), ABOUT, borderType=cv2.BORDER_CONSTANT))


def _of_cells(field: Floats, at: Floats) -> Floats:
    """A field over the cells (h, w, 2) at pixels (K, 2)."""
    place = (at + 0.5) / CELL - 0.5
    return np.stack([_looked_up(np.ascontiguousarray(field[..., k]), place.astype(np.float32)) for k in (0, 1)], 1)


def moved(view: PhotoView, mine: Samples, field: Floats) -> Samples:
    """What a photo shows at the same vertices when it is moved by a field over cells."""
    at = mine.at + _of_cells(field, mine.at)
    return replace(mine, value=np.stack([_looked_up(f, at) for f in fine_parts(view)], 1))


def shifts(
    view: PhotoView, mine: Samples, others: Floats, start: Floats | None = None
) -> tuple[Floats, NDArray[np.bool_]]:
    """How far a photo's content lies off what others show, over a grid of cells.

    Parameters
    ----------
    mine : Samples
        What the photo shows.
    others : (K, 2)
        What the others show at the same vertices, at both widths, in the photo's brightness; NaN where too few do.
    start : (h, w, 2), optional
        A field that was found before.

    Returns
    -------
    field : (h, w, 2) float32
        What belongs at a pixel lies at the pixel plus that.
    sure : (h, w) bool
        Where that is told surely.
    """
    grid = _grid(view.photo.shape[:2])
    field = np.zeros((*grid, 2), np.float32) if start is None else start
    sure = np.zeros(grid, bool)
    there = np.isfinite(others).all(1)
    if there.sum() < 50:
        return field, sure
    at, weight = mine.at[there], mine.weight[there]
    weight = weight / np.float32(max(float(np.median(weight)), 1e-12))
    cell = _cells(at, grid)
    for picture, wanted in zip(fine_parts(view), others[there].T):
        across, down = (cv2.Sobel(picture, cv2.CV_32F, *d, ksize=3, scale=0.125) for d in ((1, 0), (0, 1)))
        for _ in range(ROUNDS):
            place = at + _of_cells(field, at)
            off = wanted - _looked_up(picture, place)
            x, y = _looked_up(across, place), _looked_up(down, place)
            spread = 1.4826 * float(np.median(np.abs(off))) + 0.5
            w = weight / (1 + (off / (2 * spread)) ** 2)
            noise = _in_cells(cell, grid, w * off * off) / np.maximum(_in_cells(cell, grid, w), 1e-6)
            # where the photo tells nothing shifts are as large as they commonly are: none
            held = noise / np.float32(FARTHEST**2)
            xx, xy, yy = (
                _in_cells(cell, grid, w * p) + h for p, h in ((x * x, held), (x * y, 0 * held), (y * y, held))
            )
            rx, ry = (_in_cells(cell, grid, w * p * off) for p in (x, y))
            det = np.maximum(xx * yy - xy * xy, 1e-12)
            step = np.stack([(yy * rx - xy * ry) / det, (xx * ry - xy * rx) / det], -1)
            field = np.clip(field + np.clip(step, -1.5, 1.5), -FARTHEST, FARTHEST).astype(np.float32)
    # the smaller of both eigenvalues says how well the worse told direction is known; what windows share counts once
    least = (xx + yy) / 2 - np.sqrt(((xx - yy) / 2) ** 2 + xy**2)
    sure = np.sqrt(np.maximum(noise, 0.25) / np.maximum(least, 1e-9)) < SURE
    sure &= np.linalg.norm(field, axis=-1) < FARTHEST
    return field, sure


def taken_up(field: Floats, sure: NDArray[np.bool_]) -> Floats:
    """The part of a field (h, w, 2) that photos are moved by: what is sure and more than half a pixel, fading out smoothly."""
    far = np.linalg.norm(field, axis=-1)
    share = np.clip((far - LEAST) / (FULL - LEAST), 0, 1) * sure
    # alone in its surroundings a cell is more often wrong than off
    share *= cv2.morphologyEx((share > 0).astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
    # what is believed reaches a little beyond where it is told, and falls off
    weight = cv2.GaussianBlur(share.astype(np.float32), (0, 0), 1.0)
    mean = cv2.GaussianBlur((field * share[..., None]).astype(np.float32), (0, 0), 1.0)
    mean /= np.maximum(weight, 1e-6)[..., None]
    return np.asarray(mean * np.clip(2 * weight, 0, 1)[..., None], np.float32)


def laid(photo: NDArray, field: Floats) -> NDArray:
    """A photo (H, W, 3) moved by a field over cells."""
    height, width = photo.shape[:2]
    u, v = np.meshgrid(np.arange(width, dtype=np.float32), np.arange(height, dtype=np.float32))
    maps = [
        cv2.remap(np.ascontiguousarray(field[..., k]), (u + 0.5) / CELL - 0.5, (v + 0.5) / CELL - 0.5, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        for k in (0, 1)
    ]  # fmt: skip
    return np.asarray(cv2.remap(photo, u + maps[0], v + maps[1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE))


@dataclass
class Told:
    """Sums over photos of what they show at vertices at both widths, by weight."""

    total: Floats
    weight: Floats
    photos: NDArray[np.int32]

    @classmethod
    def of(cls, count: int) -> Told:
        """Of so many vertices nothing yet."""
        return cls(np.zeros((count, 2), np.float32), np.zeros(count, np.float32), np.zeros(count, np.int32))

    def add(self, s: Samples, gain: float) -> None:
        """Add a photo, its brightness times ``gain``."""
        self.total[s.index] += gain * s.weight[:, None] * s.value
        self.weight[s.index] += s.weight
        self.photos[s.index] += 1

    def others(self, s: Samples, gain: float) -> Floats:
        """What all but one photo show at its vertices (K, 2), in its brightness; NaN where too few do."""
        rest = self.weight[s.index] - s.weight
        mean = (self.total[s.index] - gain * s.weight[:, None] * s.value) / np.maximum(rest, 1e-9)[:, None] / gain
        enough = (self.photos[s.index] >= FEWEST) & (rest > 0.2 * s.weight)
        return np.where(enough[:, None], mean, np.nan).astype(np.float32)
