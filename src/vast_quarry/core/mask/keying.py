"""Keying: what is not of the backdrop's colour is the subject.

Colours are compared by CIEDE2000 with lightness counting less, because a backdrop is unevenly lit. Backdrop colours are picked
by hand, or found in the photo itself: a smooth field of colour is laid through what the frame's border shows, and grows inwards
as far as the photo follows it, so that a backdrop may fall off in brightness and turn in hue. Its rim is soft: what differs by
less than ``softness`` from the limit is decided by the edges of the photo.

References
----------
ISO/CIE 11664-4:2019 (L*a*b*), ISO/CIE 11664-6:2014 (CIEDE2000).
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.mask.difference import ciede2000
from vast_quarry.core.mask.edges import enlarged, guided, largest_parts, smaller, without_pinholes
from vast_quarry.core.mask.stands import border, to_lab

Mask = NDArray[np.bool_]
Rgb = NDArray[np.uint8]
#: weight of lightness against chroma and hue
LIGHTNESS = 0.5
#: longer side at which colours are compared (pixels); the rim is set at full size
SIDE = 800
#: share of the frame's border that has to be of the backdrop, for it to count as one
OF_BORDER = 0.6
#: spread of a border (Delta E) above which it is no plain backdrop
UNEVEN = 2.0


@dataclass(frozen=True)
class Field:
    """A backdrop whose colour varies smoothly: polynomials of second order for L*, a*, b* over the frame."""

    terms: NDArray[np.float64]

    def over(self, height: int, width: int) -> NDArray[np.float64]:
        """Its colour at each pixel (height, width, 3)."""
        return (_basis(height, width) @ self.terms).reshape(height, width, 3)


def _basis(height: int, width: int) -> NDArray[np.float64]:
    v, u = np.meshgrid(np.linspace(-1, 1, height), np.linspace(-1, 1, width), indexing="ij")
    x, y = u.ravel(), v.ravel()
    return np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], 1)


def key_out(rgb: Rgb, colors: list[tuple[int, int, int]], tolerance: float, softness: float = 0.0) -> Mask:
    """Mask (H, W), True where a photo (H, W, 3) differs from every backdrop colour.

    Parameters
    ----------
    colors : list of (red, green, blue)
    tolerance : float
        Greatest colour difference (Delta E 2000) that still counts as backdrop.
    softness : float
        Within this difference from the limit the photo's edges decide.
    """
    small = smaller(rgb, SIDE)
    lab = to_lab(cv2.GaussianBlur(small, (0, 0), 0.6))
    far = np.min([ciede2000(lab, to_lab(np.array([[c]], np.uint8)), LIGHTNESS) for c in colors], axis=0)
    return _subject(rgb, small, far, tolerance, softness)


def _subject(rgb: Rgb, small: Rgb, far: NDArray, tolerance: float, softness: float) -> Mask:
    """The subject's mask at full size from differences of colour in the smaller photo."""
    ramp = max(softness, 0.1 * tolerance, 0.5)
    chance = ((far - tolerance) / (2 * ramp) + 0.5).clip(0, 1)
    radius = max(2, round(max(small.shape[:2]) / 260))
    mask = largest_parts(guided(small, chance, radius, 2e-4) > 0.5)
    if not mask.any():
        return np.zeros(rgb.shape[:2], bool)
    return enlarged(without_pinholes(mask, 0.001 * float(mask.sum())), rgb)


def border_field(rgb: Rgb, side: int = 200) -> tuple[Field, float, float] | None:
    """The smooth backdrop that a photo's border shows, its spread (Delta E 2000), and the share of the border that is of it.

    None where too little of the border follows any smooth field, or not closely: there is no plain backdrop.
    """
    small = smaller(rgb, side)
    h, w, _ = small.shape
    lab = to_lab(cv2.GaussianBlur(small, (0, 0), 1.0)).reshape(-1, 3).astype(np.float64)
    band = border(h, w, 0.06).ravel()
    basis = _basis(h, w)
    use = band.copy()
    for k in range(8):
        weight = use.astype(float)
        field = lab * 0
        for _ in range(6):
            solved, *_ = np.linalg.lstsq(basis * weight[:, None], lab * weight[:, None], rcond=None)
            field = basis @ solved
            off = np.linalg.norm(lab - field, axis=1)
            weight = use * np.minimum(1.0, 2.0 / np.maximum(off, 1e-6))
        spread = float(np.median(off[use]))
        fits = off < max(3.5, 4 * spread)
        if np.mean(fits[band]) < OF_BORDER:
            return None
        # next it grows inwards from the border, as far as it fits
        grown = (fits.reshape(h, w)).astype(np.uint8)
        count, label, _, _ = cv2.connectedComponentsWithStats(grown, connectivity=4)
        touching = np.zeros(count, bool)
        touching[np.unique(label.ravel()[band & fits])] = True
        touching[0] = False
        new = touching[label].ravel()
        if k and np.mean(new ^ use) < 0.002:
            break
        use = new
    if spread > UNEVEN:
        return None
    return Field(solved), spread, float(np.mean(fits[band]))


def key_field(rgb: Rgb, field: Field, tolerance: float, softness: float = 0.0) -> Mask:
    """Mask (H, W), True where a photo differs from its smooth backdrop by more than ``tolerance`` (Delta E 2000)."""
    small = smaller(rgb, SIDE)
    lab = to_lab(cv2.GaussianBlur(small, (0, 0), 0.6))
    far = ciede2000(lab, field.over(*small.shape[:2]), LIGHTNESS)
    return _subject(rgb, small, far, tolerance, softness)


def border_colors(rgb: Rgb, most: int = 4) -> list[tuple[tuple[int, int, int], float]]:
    """The colours that make up a photo's border, with the share of it that each has: to start picking from."""
    small = smaller(rgb, 200)
    pixels = small[border(small.shape[0], small.shape[1], 0.06)]
    lab = to_lab(pixels[None])[0]
    cv2.setRNGSeed(1)
    _, label, centers = cv2.kmeans(
        lab,
        min(most, len(lab)),
        None,
        (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 20, 0.5),
        2,
        cv2.KMEANS_PP_CENTERS,
    )
    share = np.bincount(label.ravel(), minlength=len(centers)) / len(lab)
    rgb_of = (
        np.round(cv2.cvtColor(centers[None].astype(np.float32), cv2.COLOR_LAB2RGB)[0] * 255).clip(0, 255).astype(int)
    )
    order = np.argsort(-share)
    return [
        ((int(rgb_of[k, 0]), int(rgb_of[k, 1]), int(rgb_of[k, 2])), float(share[k])) for k in order if share[k] > 0.05
    ]
