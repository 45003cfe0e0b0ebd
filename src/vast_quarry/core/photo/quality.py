"""What one photo is worth: sharpness with its cause, clipping, darkness, noise, brightness and colour.

Sharpness is the width of the photo's edges, not the strength of its contrast, so that a plain subject is not called
blurred. From the crest of each strong edge the profile is followed across it, both ways, to where it stops rising and
falling; between 10 and 90 % of that step lies its width. It says the same of a lone outline as of a fine texture. The
narrower edges count (a shading is no edge), in eight directions: wide in one direction only tells motion, wide in all
tells focus.

References
----------
Marziliano, P. et al. (2002). A no-reference perceptual blur metric. ICIP: widths of edges between their extremes.
Immerkaer, J. (1996). Fast noise variance estimation. Computer Vision and Image Understanding 64, 300-302.
IEC 61966-2-1 (sRGB). Width from 10 to 90 % of a Gaussian edge: 2.563 standard deviations.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from vast_quarry.core.photo.srgb import LINEAR, linear

Floats = NDArray[np.float32]

#: standard deviation of the smoothing against noise (pixels); what it adds to a width is taken off again
SMOOTH = 0.8
#: directions that edges are sorted into, over half a turn
DIRECTIONS = 8
#: most edges that are followed
MOST_EDGES = 30_000
#: from 10 to 90 % of a Gaussian edge, in standard deviations
EDGE = 2.563
#: an edge is followed so far to each side (pixels), in such steps
REACH, STEP = 24.0, 0.5
#: share of the narrowest edges below the width that counts
QUANTILE = 40
#: level (of 255) at and above which a channel is clipped, at and below which a pixel is black
CLIPPED, BLACK = 252, 3
#: what lies between says what the light was (linear light of 0.004 and 0.97), and the logarithm of each value
SURE_ABOVE, SURE_BELOW = int(np.searchsorted(LINEAR, 0.004, "right")) - 1, int(np.searchsorted(LINEAR, 0.97))
LOGS = np.log2(np.maximum(LINEAR.astype(np.float64), 1e-4))
#: side of the blocks that darkness is judged in (pixels of the photo made small), and its level in linear light
BLOCK = 16
DARK = 0.012
#: photos are judged at a longer side of so many pixels at most
SIDE = 1600


@dataclass(frozen=True)
class Quality:
    """Figures of one photo.

    Attributes
    ----------
    sharpness_px : float
        Width of its sharp edges in pixels of the photo at full size (10 to 90 %).
    widest_px, narrowest_px : float
        The same in the direction in which it is most and least blurred.
    motion_deg : float
        Direction of the widest blur, from the x axis towards the y axis, 0 to 180.
    clipped_high_percent, clipped_low_percent : float
        Share of the subject that is clipped.
    too_dark_percent : float
        Share of the subject in places too dark to hold features.
    noise : float
        Standard deviation of the noise in 8-bit levels.
    light_log2 : float
        Mean of the logarithm (base 2) of its light.
    warm_log2, green_log2 : float
        Red over blue, and green over both, as logarithms (base 2).
    edges : int
        Edges the sharpness rests on.
    """

    sharpness_px: float
    widest_px: float
    narrowest_px: float
    motion_deg: float
    clipped_high_percent: float
    clipped_low_percent: float
    too_dark_percent: float
    noise: float
    light_log2: float
    warm_log2: float
    green_log2: float
    edges: int

    @property
    def lopsided(self) -> float:
        """How much wider edges are in the most blurred direction than in the least."""
        return self.widest_px / max(self.narrowest_px, 1e-6)


@njit(error_model="numpy", cache=True)
def _at(g: Floats, x: float, y: float) -> float:
    """Value between pixels."""
    i, j = int(x), int(y)
    a, b = x - i, y - j
    top = g[j, i] * (1 - a) + g[j, i + 1] * a
    return top * (1 - b) + (g[j + 1, i] * (1 - a) + g[j + 1, i + 1] * a) * b


@njit(error_model="numpy", cache=True, parallel=True)
def _follow(g: Floats, x: Floats, y: Floats, dx: Floats, dy: Floats, least: float, width: Floats) -> None:
    """Width from 10 to 90 % of the step at each place, going down one way and up the other; 0 where there is none."""
    h, w = g.shape
    n = int(REACH / STEP)
    for k in prange(len(x)):
        up = np.empty(n + 1)
        down = np.empty(n + 1)
        ends = np.zeros(2, np.int64)
        for side in range(2):
            sign = 1.0 if side == 0 else -1.0
            last = _at(g, x[k], y[k])
            line = up if side == 0 else down
            line[0] = last
            end = 0
            for i in range(1, n + 1):
                u, v = x[k] + sign * i * STEP * dx[k], y[k] + sign * i * STEP * dy[k]
                if u < 0 or v < 0 or u >= w - 1 or v >= h - 1:
                    break
                value = _at(g, u, v)
                if sign * (value - last) <= 0.002 * least:
                    break
                line[i] = value
                last = value
                end = i
            ends[side] = end
        high, low = up[ends[0]], down[ends[1]]
        step = high - low
        if step < least:
            width[k] = 0.0
            continue
        # where 90 % lies on the way up and 10 % on the way down
        far = 0.0
        for i in range(ends[0]):
            if up[i + 1] >= low + 0.9 * step:
                far = i + (low + 0.9 * step - up[i]) / max(up[i + 1] - up[i], 1e-9)
                break
        near = 0.0
        for i in range(ends[1]):
            if down[i + 1] <= low + 0.1 * step:
                near = i + (down[i] - low - 0.1 * step) / max(down[i] - down[i + 1], 1e-9)
                break
        width[k] = (far + near) * STEP


def edge_widths(
    gray: NDArray[np.uint8], mask: NDArray[np.bool_] | None = None, noise: float | None = None
) -> tuple[Floats, Floats]:
    """Widths (10 to 90 %, in pixels) and directions (radians, 0 to pi, across the edge) of strong edges (N,).

    ``noise`` is that of the photo, where it is known already (:func:`noise_level`).
    """
    g = cv2.GaussianBlur(gray.astype(np.float32), (0, 0), SMOOTH)
    gx, gy = cv2.Sobel(g, cv2.CV_32F, 1, 0) / 8, cv2.Sobel(g, cv2.CV_32F, 0, 1) / 8
    strong = cv2.magnitude(gx, gy)
    noise = min(
        noise_level(gray) if noise is None else noise, 4.0
    )  # texture finer than that looks like noise, but is none
    use = strong > max(_percentile(strong, 80), 1.2 * noise + 0.3)
    # the crest of an edge only
    use &= strong >= cv2.dilate(strong, np.ones((3, 3))) * 0.95
    if mask is not None:
        use &= cv2.erode(mask.astype(np.uint8), np.ones((7, 7))) > 0
    use[:4], use[-4:], use[:, :4], use[:, -4:] = False, False, False, False
    y, x = np.nonzero(use)
    if len(x) > MOST_EDGES:
        pick = np.random.default_rng(0).choice(len(x), MOST_EDGES, replace=False)
        x, y = x[pick], y[pick]
    length = np.maximum(strong[y, x], 1e-6)
    width = np.zeros(len(x), np.float32)
    dx, dy = (gx[y, x] / length).astype(np.float32), (gy[y, x] / length).astype(np.float32)
    _follow(g, x.astype(np.float32), y.astype(np.float32), dx, dy, max(6.0 * noise, 6.0), width)
    there = width > 0
    # what the smoothing added: variances add
    own = np.sqrt(np.maximum(width[there] ** 2 - (EDGE * SMOOTH) ** 2, 0.25))
    return own.astype(np.float32), (np.arctan2(dy[there], dx[there]) % np.pi).astype(np.float32)


def noise_level(gray: NDArray[np.uint8]) -> float:
    """Standard deviation of the noise in 8-bit levels, from the flattest half of the photo (Immerkaer's mask)."""
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    high = cv2.filter2D(gray, cv2.CV_32F, kernel)
    flat = cv2.blur(cv2.absdiff(cv2.Laplacian(cv2.GaussianBlur(gray, (0, 0), 2.0), cv2.CV_32F), 0.0), (15, 15))
    some = _spaced(flat)
    chosen = np.abs(_spaced(high)[some <= np.percentile(some, 50)])
    return float(np.median(chosen) / 0.6745 / 6.0)


def _spaced(a: Floats) -> Floats:
    """A large picture on a grid of about so many pixels as settle a percentile to a few thousandths."""
    k = max(1, int(np.sqrt(a.size / 200_000)))
    return a[::k, ::k]


def _percentile(a: Floats, percent: float) -> float:
    return float(np.percentile(_spaced(a), percent))


def dark_map(rgb: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Blocks of a photo (of any size) that are too dark to hold features, as a picture of one value a block."""
    h, w = rgb.shape[:2]
    light = cv2.transform(linear(rgb), np.array([[0.2126, 0.7152, 0.0722]], np.float32))
    small = cv2.resize(light, (max(1, w // BLOCK), max(1, h // BLOCK)), interpolation=cv2.INTER_AREA)
    return np.asarray(small < DARK)


def _percent(which: NDArray[np.bool_], mask: NDArray[np.bool_] | None) -> float:
    return round(100 * float(which[mask].mean() if mask is not None and mask.any() else which.mean()), 3)


def judge(rgb: NDArray[np.uint8], mask: NDArray[np.bool_] | None = None, scale: float = 1.0) -> Quality:
    """Figures of a photo.

    Parameters
    ----------
    rgb : (H, W, 3) uint8
        The upright photo, or one made smaller.
    mask : (H, W) bool, optional
        The subject; without one all counts.
    scale : float
        Size of ``rgb`` as a share of the photo: widths are told in pixels of the photo.
    """
    gray = np.asarray(cv2.cvtColor(rgb, cv2.COLOR_RGB2GRAY), np.uint8)
    noise = noise_level(gray)
    width, direction = edge_widths(gray, mask, noise)
    sharp, each = _sharp(width, direction)
    channels = cv2.split(rgb)
    top = cv2.max(cv2.max(channels[0], channels[1]), channels[2])
    least = cv2.min(cv2.min(channels[0], channels[1]), channels[2])
    inside = mask if mask is not None and mask.any() else np.ones(gray.shape, bool)
    # neither clipped nor black pixels say what the light was
    sure = inside & (top < SURE_BELOW) & (least > SURE_ABOVE)
    counted = (sure if sure.sum() > 100 else inside).astype(np.uint8)
    # of 256 values a channel can have, each is looked up once
    counts = [cv2.calcHist([c], [0], counted, [256], [0, 256]).ravel().astype(np.float64) for c in channels]
    r, g, b = (float(c @ LOGS / c.sum()) for c in counts)
    dark = cv2.resize(dark_map(rgb).astype(np.uint8), (rgb.shape[1], rgb.shape[0]), interpolation=cv2.INTER_NEAREST) > 0
    wide = int(np.argmax(each))
    return Quality(
        sharpness_px=round(sharp / scale, 3), widest_px=round(float(each.max()) / scale, 3),
        narrowest_px=round(float(each.min()) / scale, 3), motion_deg=180.0 * wide / DIRECTIONS,
        clipped_high_percent=_percent(top >= CLIPPED, mask), clipped_low_percent=_percent(top <= BLACK, mask),
        too_dark_percent=_percent(dark, mask), noise=round(noise, 3),
        light_log2=round(float((r + g + b) / 3), 4), warm_log2=round(float(r - b), 4),
        green_log2=round(float(g - (r + b) / 2), 4), edges=len(width),
    )  # fmt: skip


def _sharp(width: Floats, direction: Floats) -> tuple[float, NDArray[np.float64]]:
    """The width that the narrower edges reach, and the same in each direction; where a direction has few, the whole's."""
    if len(width) < 40:
        return float("nan") if not len(width) else float(np.median(width)), np.full(DIRECTIONS, np.nan_to_num(np.median(width) if len(width) else 0.0))  # fmt: skip
    whole = float(np.percentile(width, QUANTILE))
    step = np.pi / DIRECTIONS
    bins = np.round(direction / step).astype(int) % DIRECTIONS
    each = np.full(DIRECTIONS, whole)
    for k in range(DIRECTIONS):
        near = (bins == k) | (bins == (k + 1) % DIRECTIONS) | (bins == (k - 1) % DIRECTIONS)
        if near.sum() >= 60:
            each[k] = float(np.percentile(width[near], QUANTILE))
    return whole, each
