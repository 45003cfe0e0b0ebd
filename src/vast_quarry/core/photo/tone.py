"""Exposure and white balance of a set, from the same places of the subject as different photos have them.

Each pair of photos says how much brighter one has their common features than the other, channel by channel; the photos'
own offsets are the least-squares solution of all pairs, made robust by weighing down pairs that disagree (iteratively
reweighted, Huber). What a photo shows beside the subject, like a bright sky, has no part in it.

References
----------
Brown, M., Lowe, D. (2007). Automatic panoramic image stitching using invariant features. IJCV 74, sec. 6: gain
compensation over pairs. Sharma, G., Wu, W., Dalal, E. (2005). The CIEDE2000 color-difference formula. Color Research and
Application 30, 21-30.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any, TypeVar

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.photo.srgb import coded, linear

Array = NDArray[np.float64]
#: what a channel of a photo is kept in
Pixel = TypeVar("Pixel", np.uint8, np.uint16)

#: luminance (linear) below which shadows are lifted
SHADOW = 0.18

#: a pair that misses the solution by more than so many stops counts less
HUBER = 0.08

#: spread (stops) up to which the exposures explain how bright photos are
EXPLAINED = 0.25


def tone_offsets(
    count: int, brighter: Mapping[tuple[int, int], Array], weight: Mapping[tuple[int, int], int], rounds: int = 8
) -> Array:
    """Offsets (count, 3) in stops of each photo's channels against the median of the set.

    ``brighter`` holds for pairs (i, j) how much brighter i is; ``weight`` how many places say so. Photos that no pair
    holds get NaN.
    """
    out = np.full((count, 3), np.nan)
    pairs = list(brighter)
    if not pairs:
        return out
    i, j = np.array(pairs).T
    d = np.stack([brighter[p] for p in pairs])
    base = np.sqrt(np.array([weight[p] for p in pairs], float))
    held = np.unique(np.concatenate([i, j]))
    index = np.full(count, -1)
    index[held] = np.arange(len(held))
    a, b = index[i], index[j]
    n = len(held)
    for c in range(3):
        w: Array = base.copy()
        x: Array = np.zeros(n)
        for _ in range(rounds):
            laplace = np.zeros((n, n))
            np.add.at(laplace, (a, a), w)
            np.add.at(laplace, (b, b), w)
            np.add.at(laplace, (a, b), -w)
            np.add.at(laplace, (b, a), -w)
            right = np.zeros(n)
            np.add.at(right, a, w * d[:, c])
            np.add.at(right, b, -w * d[:, c])
            # parts that do not hang together each keep their own middle
            x = np.asarray(np.linalg.lstsq(laplace + 1e-9 * np.eye(n), right, rcond=None)[0], float)
            miss = np.abs(x[a] - x[b] - d[:, c])
            w = base * np.minimum(1.0, HUBER / np.maximum(miss, 1e-9))
        out[held, c] = x - np.median(x)
    return out


def exposure_stops(exposure_s: float | None, f_number: float | None, iso: float | None) -> float:
    """How much light a camera made of a scene, in stops: log2(t S / N^2), as in the exposure value of ISO 2720; NaN if unknown."""
    if not (exposure_s and f_number and iso):
        return float("nan")
    return float(np.log2(exposure_s * iso / f_number**2))


def fill_by_exposure(tones: Array, exposures: Array) -> Array:
    """Offsets (n, 3) with those that are not known (NaN) filled in by how photos were exposed (n,), where that explains the others.

    In one light a photo is brighter by just what it was exposed more. Where the light changed that is not so: then nothing is
    filled in.
    """
    out = tones.copy()
    known = np.isfinite(tones).all(1) & np.isfinite(exposures)
    missing = ~np.isfinite(tones).all(1) & np.isfinite(exposures)
    if known.sum() < 3 or not missing.any():
        return out
    rest = tones[known].mean(1) - exposures[known]
    middle = float(np.median(rest))
    if 1.4826 * float(np.median(np.abs(rest - middle))) > EXPLAINED:
        return out
    out[missing] = (exposures[missing] + middle)[:, None]
    return out


@dataclass(frozen=True)
class Tone:
    """How a photo is changed when it is read; the file is never touched.

    Attributes
    ----------
    red, green, blue : float
        Stops that each channel is made brighter by, in linear light.
    brightness : float
        Stops for all three.
    shadows : float
        How far shadows are lifted, 0 to 1: at 1 black places get 2.6 stops.
    contrast, saturation : float
        -1 to 1; 0 leaves them.
    black, white : float
        Levels (0 to 1, coded) that become black and white.
    corners : float
        Stops that the corners are made brighter by against the middle, growing with the square of the distance:
        what a lens darkens.
    fall2, fall4, fall6 : float
        Stops that the lens takes away by the second, fourth and sixth power of the distance from the middle (1 in the
        corner), which are given back; see :mod:`vast_quarry.core.photo.falloff`.
    denoise : float
        0 to 1: smoothing that keeps edges (bilateral).
    """

    red: float = 0.0
    green: float = 0.0
    blue: float = 0.0
    brightness: float = 0.0
    shadows: float = 0.0
    contrast: float = 0.0
    saturation: float = 0.0
    black: float = 0.0
    white: float = 1.0
    corners: float = 0.0
    denoise: float = 0.0
    fall2: float = 0.0
    fall4: float = 0.0
    fall6: float = 0.0

    @staticmethod
    def from_dict(values: Mapping[str, Any] | None) -> Tone | None:
        """A tone from its values; None where there is nothing to change."""
        tone = Tone(**values) if values else Tone()
        return None if tone == Tone() else tone

    def as_dict(self) -> dict[str, float]:
        """JSON-ready."""
        return asdict(self)


def apply_tone(rgb: NDArray[Pixel], tone: Tone | None) -> NDArray[Pixel]:
    """A photo (H, W, 3) of 8 or 16 bits with a tone: gains and lifted shadows in linear light, the rest as it is coded."""
    if tone is None:
        return rgb
    top = np.iinfo(rgb.dtype).max
    gain = 2.0 ** (np.array([tone.red, tone.green, tone.blue], np.float32) + np.float32(tone.brightness))
    if tone.denoise:
        by = 6 + 24 * tone.denoise, 1 + 2 * tone.denoise
        if top == 255:
            rgb = np.asarray(cv2.bilateralFilter(rgb, 5, *by), rgb.dtype)
        else:
            # the filter takes no 16 bits: in single precision, in the values that its widths are meant for
            smooth = cv2.bilateralFilter(rgb.astype(np.float32) * np.float32(255 / top), 5, *by)
            rgb = np.asarray(smooth * np.float32(top / 255) + 0.5, rgb.dtype)
    x = linear(rgb) * gain
    if tone.corners or tone.fall2 or tone.fall4 or tone.fall6:
        h, w = rgb.shape[:2]
        v, u = (np.arange(h) - (h - 1) / 2) ** 2, (np.arange(w) - (w - 1) / 2) ** 2
        far = (v[:, None] + u[None]) / ((h / 2) ** 2 + (w / 2) ** 2)
        stops = (tone.corners + tone.fall2) * far + tone.fall4 * far**2 + tone.fall6 * far**3
        x = x * (2.0**stops).astype(np.float32)[..., None]
    if tone.shadows:
        y = x @ np.array([0.2126, 0.7152, 0.0722], np.float32)
        # falls off smoothly to nothing at middle grey, so that no edge appears
        t = np.clip(y / SHADOW, 0.0, 1.0)
        x = x * (2.0 ** (2.6 * tone.shadows * (1 - t) ** 2))[..., None]
    x = coded(np.clip(x, 0.0, 1.0))
    if tone.black != 0.0 or tone.white != 1.0:
        x = np.clip((x - tone.black) / max(tone.white - tone.black, 0.05), 0.0, 1.0)
    if tone.contrast:
        # steeper about the middle, gentle at the ends; never turns the order of two levels round
        x = x + tone.contrast * 0.9 * x * (1 - x) * (2 * x - 1)
    if tone.saturation:
        grey = (x @ np.array([0.2126, 0.7152, 0.0722], np.float32))[..., None]
        x = grey + (1 + tone.saturation) * (x - grey)
    return np.asarray(np.clip(x, 0.0, 1.0) * float(top) + 0.5, rgb.dtype)


def local_contrast(rgb: NDArray[np.uint8], strength: float = 2.0) -> NDArray[np.uint8]:
    """A photo whose lightness is evened out in small fields (contrast limited), for finding features only."""
    lab = cv2.cvtColor(rgb, cv2.COLOR_RGB2LAB)
    tiles = max(4, min(16, rgb.shape[1] // 120)), max(4, min(16, rgb.shape[0] // 120))
    lab[..., 0] = cv2.createCLAHE(strength, tiles).apply(np.ascontiguousarray(lab[..., 0]))
    return np.asarray(cv2.cvtColor(lab, cv2.COLOR_LAB2RGB), np.uint8)
