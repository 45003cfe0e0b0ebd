"""The subject is what is in focus: for shots with a soft background.

Sharpness is the energy of fine detail against that of coarser detail, so that strong but soft edges do not count; it is
gathered over windows, because a subject has plain parts between its sharp ones, and set to the photo's edges.

References
----------
Nayar, S., Nakagawa, Y. (1994). Shape from focus. IEEE PAMI 16(8) (the modified Laplacian as a measure of focus).
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.mask.edges import cut, enlarged, largest_parts, smaller, without_pinholes

Mask = NDArray[np.bool_]
SIDE = 900
#: how many times sharper the subject has to be than the rest (median energies) for the photo to say anything
CLEAR = 4.0


def detail(gray: NDArray[np.float32], sigma: float = 0.8) -> NDArray[np.float32]:
    """Modified Laplacian of a picture (H, W), its noise evened out."""
    g = cv2.GaussianBlur(gray, (0, 0), sigma)
    kernel = np.array([[-1, 2, -1]], np.float32)
    return np.asarray(
        np.abs(cv2.filter2D(g, cv2.CV_32F, kernel)) + np.abs(cv2.filter2D(g, cv2.CV_32F, kernel.T)), np.float32
    )


def in_focus(rgb: NDArray[np.uint8]) -> tuple[Mask, float, bool]:
    """Mask (H, W) of what is sharp in a photo (H, W, 3), how many times sharper it is than the rest, and whether the rest is blurred.

    Below :data:`CLEAR` the photo has no soft background to tell the subject from. A rest without any contrast, as a clear sky,
    is not blurred for sure.
    """
    small = smaller(rgb, SIDE)
    gray = np.asarray(cv2.cvtColor(small, cv2.COLOR_RGB2GRAY), np.float32)
    fine = detail(gray)
    # noise has fine detail everywhere: what the quietest tenth shows is noise
    energy = np.maximum(fine - 2 * float(np.quantile(fine, 0.1)), 0.0)
    window = max(small.shape[:2]) / 90
    heap = cv2.GaussianBlur(cv2.morphologyEx(energy, cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8)), (0, 0), window)
    level = np.log(heap + 1e-3)
    scaled = cv2.normalize(level, None, 0, 255, cv2.NORM_MINMAX).astype(np.uint8)
    threshold, _ = cv2.threshold(scaled, 0, 255, cv2.THRESH_BINARY + cv2.THRESH_OTSU)
    sharp = scaled > threshold
    if not sharp.any() or sharp.all():
        return np.zeros(rgb.shape[:2], bool), 1.0, False
    ratio = float(np.median(heap[sharp]) / max(float(np.median(heap[~sharp])), 1e-3))
    wide = cv2.GaussianBlur(gray, (0, 0), 4.0)
    coarse = np.hypot(cv2.Sobel(wide, cv2.CV_32F, 1, 0), cv2.Sobel(wide, cv2.CV_32F, 0, 1))
    blurred = bool(np.median(coarse[~sharp]) > 0.25 * np.median(coarse[sharp]))
    reach = max(3, round(2 * window))
    closed = cv2.morphologyEx(
        sharp.astype(np.uint8), cv2.MORPH_CLOSE, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1,) * 2)
    )
    mask = largest_parts(closed > 0, 0.1)
    mask = without_pinholes(mask, 0.03 * float(mask.sum()))
    # the windows carry sharpness over the rim by about their size
    mask = cv2.erode(mask.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (reach | 1,) * 2)) > 0
    mask = largest_parts(cut(small, mask, 2 * reach), 0.1)
    return enlarged(without_pinholes(mask, 0.01 * max(float(mask.sum()), 1.0)), rgb), ratio, blurred
