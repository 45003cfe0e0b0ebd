"""Planes of a depth map moved to where photos larger than the map agree best, in bands.

What a band of the map shows lies in a part of each of the other photos, known from the planes: only that part is read in. So memory
goes by the map, not by how large or how many the photos are.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from itertools import islice

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.dense import patchmatch_kernels as kernels
from vast_quarry.core.dense.sources import Part, Sources, View

Floats = NDArray[np.float32]
#: gives the photo larger, and the others, one after the other
Larger = Callable[[], tuple[View, Iterable[View]]]
#: by how much less a sample of the window counts there, of the square of its distance in pixels; Newton's steps, each no farther than
#: so many pixels of the larger photos
FALLOFF, STEPS, REACH = 0.1, 3, 1.5
#: windows reach so far from where a plane puts their middle, in pixels of the other photo; the kernels take none that reach farther
MARGIN = 48
#: pixels of all other photos together that a band is made for; and the fewest lines of a band
PIXELS, LINES = 60_000_000, 64


def polish(
    plane: Floats,
    chosen: NDArray[np.int8],
    active: NDArray[np.bool_],
    larger: Larger,
    step: float,
    sigma_color: float,
    smallest_var: float,
    check: Callable[[], None] = lambda: None,
) -> None:
    """Move the planes of a map, in place.

    Parameters
    ----------
    plane : (H, W, 3)
        Inverse depth and its slopes.
    chosen : (H, W, keep)
        Other photos in which each is seen best.
    active : (H, W) bool
        Those that are to be moved.
    larger : callable
        Asked once for each band.
    step : float
        Change of inverse depth that moves the image in a typical other photo by one pixel of the map.
    """
    lines = np.flatnonzero(active.any(1))
    if not len(lines):
        return
    count = int(chosen.max(initial=-1)) + 1
    first, last = int(lines[0]), int(lines[-1]) + 1
    whole = last - first
    while first < last:
        check()
        ref, others = larger()
        farthest = np.float32(REACH * step * plane.shape[1] / ref.camera.width)
        # each band reads all photos once: bands are alike, and no more than are needed
        end = min(last, first + max(LINES, whole * PIXELS // max(count * ref.gray.size, 1)))
        band = slice(first, end)

        def part(number: int, view: View, ref: View = ref, first: int = first, band: slice = band) -> Part:
            # over a short last axis the library is slow
            shown = np.zeros(active[band].shape, bool)
            for k in range(chosen.shape[2]):
                shown |= chosen[band, :, k] == number
            return _part(ref, view, plane, active[band] & shown, first)

        src = Sources(ref, islice(others, count), part)
        kernels.polish(
            ref.gray, active, plane, chosen, src.tex, src.bases, src.sw, src.sh, src.A, src.b, chosen.shape[2], sigma_color,
            np.float32(FALLOFF), farthest, smallest_var, STEPS, first, end,
        )  # fmt: skip
        first = end


def _part(ref: View, view: View, plane: Floats, shown: NDArray[np.bool_], first: int) -> Part:
    """The part of another photo that holds what is ``shown`` (H, W) of a map from line ``first`` on."""
    rows, columns = np.nonzero(shown)
    across = ref.camera.width / plane.shape[1]
    down = ref.camera.height / plane.shape[0]
    rows += first
    u, v = (columns + 0.5) * across - 0.5, (rows + 0.5) * down - 0.5
    rays = np.stack([(u - ref.camera.cx) / ref.camera.fx, (v - ref.camera.cy) / ref.camera.fy, np.ones(len(u))], -1)
    turn = view.rotation @ ref.rotation.T
    at = rays @ turn.T + plane[rows, columns, :1] * (view.rotation @ (ref.center - view.center))
    at = at[at[:, 2] > 0]
    if not len(at):
        return 0, 0, 2, 2
    xy = at[:, :2] / at[:, 2:] * [view.camera.fx, view.camera.fy] + [view.camera.cx, view.camera.cy]
    height, width = view.gray.shape
    (left, top), (right, bottom) = np.floor(xy.min(0)) - MARGIN, np.ceil(xy.max(0)) + MARGIN
    left, right = np.clip([left, right], 0, width - 2)
    top, bottom = np.clip([top, bottom], 0, height - 2)
    return int(left), int(top), int(right) + 2, int(bottom) + 2
