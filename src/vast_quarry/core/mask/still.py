"""Masks of a subject that moves before a camera which stands still: on a turntable, or pushed about on a desk.

What a place of the frame shows most tightly, over all frames from one stand of the camera, is taken for its background when
it lies there often enough: the mode, since the subject may hide a place for most of the time, and its own texture never comes
back to within the camera's noise. The subject of a frame is what differs from that by more than the noise, with shadows
(darker, same hue) counting less; where the background was never seen, colours learnt from the surely moving and the surely
still places decide. Evidence is smoothed along the edges of the photo (cost filtering) and the rim is set at full size.

References
----------
Stauffer, C., Grimson, W. (1999). Adaptive background mixture models for real-time tracking. CVPR.
Horprasert, T., Harwood, D., Davis, L. (1999). A statistical approach for real-time robust background subtraction and shadow
detection. ICCV.
Rhemann, C. et al. (2011). Fast cost-volume filtering for visual correspondence and beyond. CVPR.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from vast_quarry.core.mask.edges import enlarged, guided, largest_parts, without_pinholes
from vast_quarry.core.mask.stands import border, to_lab

Mask = NDArray[np.bool_]
#: most frames of a stand that are looked at for its background
MOST = 40
#: share of a stand's frames that must show the same at a place for it to be background
SEEN = 0.2
#: how many times noisier colours are than the outer band, at small places apart from where the subject is
NOISIER = 2.2
#: share of a background's values among all that are somewhat like it
ALONE = 0.75
#: bins of a colour histogram along each axis
BINS = 16


@dataclass
class Background:
    """What stands still before one stand of the camera.

    Attributes
    ----------
    color : (H, W, 3) float32
        L*, a*, b* of the background.
    known : (H, W) bool
        Where it was seen often enough.
    support : (H, W) float32
        Share of frames that show it.
    sigma : (H, W) float32
        Noise (about Delta E) with what moves a little.
    """

    color: NDArray[np.float32]
    known: Mask
    support: NDArray[np.float32]
    sigma: NDArray[np.float32]

    @property
    def still(self) -> Mask:
        """Where next to all frames show the same."""
        return np.asarray(self.known & (self.support > 0.9))


@dataclass
class Colors:
    """How much likelier each colour is in the subject than behind it: log ratios (BINS, BINS, BINS)."""

    table: NDArray[np.float32]

    def of(self, lab: NDArray[np.float32]) -> NDArray[np.float32]:
        """Log ratio of each pixel (H, W)."""
        i = _bins(lab)
        return np.asarray(self.table[i[..., 0], i[..., 1], i[..., 2]])


def evened(frames: NDArray[np.uint8], rounds: int = 2) -> NDArray[np.float32]:
    """Gains (N, 3) that bring frames (N, H, W, 3) of one stand to the same brightness and colour behind the subject."""
    thin = frames[:, ::4, ::4].astype(np.float32) + 1.0
    n, h, w, _ = thin.shape
    count = border(h, w).ravel()
    flat = thin.reshape(n, -1, 3)
    gains = np.ones((n, 3), np.float32)
    for _ in range(rounds):
        common = np.median(flat[:, count] * gains[:, None], axis=0)
        gains = np.median(common[None] / flat[:, count], axis=1)
        apart = np.abs(flat * gains[:, None] - np.median(flat * gains[:, None], axis=0)).max(2)
        # what stands still in the whole frame helps to even out, not the outer band alone
        count = np.median(apart, axis=0) < 8.0
        if count.sum() < 50:
            break
    return gains.astype(np.float32)


@njit(error_model="numpy", cache=True, parallel=True)
def _modes(stack, tolerance, color, support, spread, alone):  # type: ignore[no-untyped-def]
    """Mode of each pixel over frames.

    stack (N, P, 3) float32 Lab; tolerance (P,) Delta E; color (P, 3), support (P,), spread (P,), alone (P,) are written.
    """
    n, pixels, _ = stack.shape
    for p in prange(pixels):
        best, at = 0, 0
        near = tolerance[p] * tolerance[p]
        for i in range(n):
            count = 0
            for j in range(n):
                d0 = stack[i, p, 0] - stack[j, p, 0]
                d1 = stack[i, p, 1] - stack[j, p, 1]
                d2 = stack[i, p, 2] - stack[j, p, 2]
                if d0 * d0 + d1 * d1 + d2 * d2 < near:
                    count += 1
            if count > best:
                best, at = count, i
        s0 = s1 = s2 = q = 0.0
        wide = 0
        for j in range(n):
            d0 = stack[j, p, 0] - stack[at, p, 0]
            d1 = stack[j, p, 1] - stack[at, p, 1]
            d2 = stack[j, p, 2] - stack[at, p, 2]
            r = d0 * d0 + d1 * d1 + d2 * d2
            if r < 9 * near:
                wide += 1
            if r < near:
                s0 += d0
                s1 += d1
                s2 += d2
                q += r
        s0, s1, s2 = s0 / best, s1 / best, s2 / best
        color[p, 0], color[p, 1], color[p, 2] = stack[at, p, 0] + s0, stack[at, p, 1] + s1, stack[at, p, 2] + s2
        support[p] = best / n
        alone[p] = best / wide
        spread[p] = np.sqrt(max(q / best - s0 * s0 - s1 * s1 - s2 * s2, 0.0))


def modes(stack: NDArray[np.float32], tolerance: float | NDArray) -> tuple[NDArray, NDArray, NDArray, NDArray]:
    """The tightest crowd of each pixel's values (N, P, 3) over N frames.

    Returns
    -------
    colour (P, 3), support (P,): share of the frames in the crowd, spread (P,), and alone (P,): its share of what lies
    within three times the tolerance. A background stands alone; a textured subject's colours lie all about.
    """
    _, pixels, _ = stack.shape
    color = np.empty((pixels, 3), np.float32)
    support, spread, alone = (np.empty(pixels, np.float32) for _ in range(3))
    limit = np.broadcast_to(np.asarray(tolerance, np.float32), (pixels,))
    _modes(np.ascontiguousarray(stack, np.float32), np.ascontiguousarray(limit), color, support, spread, alone)
    return color, support, spread, alone


def background_of(frames: NDArray[np.uint8], gains: NDArray[np.float32]) -> Background:
    """What stands still in frames (N, H, W, 3) of one stand, evened by ``gains`` (N, 3)."""
    n, h, w, _ = frames.shape
    lab = np.stack([to_lab(f * g) for f, g in zip(frames, gains)]).reshape(n, -1, 3)
    band = border(h, w).ravel()
    # noise of the camera: how far values of the outer band lie from their median over time
    noise = float(np.median(np.linalg.norm(lab[:, band] - np.median(lab[:, band], axis=0), axis=2)))
    noise = max(noise, 0.6)
    tolerance = max(3.0, 3.2 * noise)
    color, support, spread, alone = (a.reshape(h, w, -1).squeeze() for a in modes(lab, tolerance))
    least = max(3.0 / n, SEEN)
    tight = spread < 1.8 * noise + 0.5
    # several pixels tell better than one whether the crowd stands alone
    alone = cv2.blur(alone, (5, 5))
    known = (support >= least) & tight & ((alone > ALONE) | (support > 0.85))
    islands = _islands(~known)
    if islands.any():
        # saturated and dark colours are noisier than the outer band is in the middle
        at = np.flatnonzero(islands.ravel())
        c2, s2, w2, _ = modes(lab[:, at], NOISIER * tolerance)
        steady = s2 > 0.85
        color.reshape(-1, 3)[at[steady]] = c2[steady]
        support.ravel()[at[steady]], spread.ravel()[at[steady]] = s2[steady], w2[steady]
        known.ravel()[at[steady]] = True
    known = cv2.medianBlur(known.astype(np.uint8), 5) > 0
    # what was seen some of the time hangs on to what is always seen, or it is the subject's own plain parts
    sure = known & (support > 0.85)
    count, label, _, _ = cv2.connectedComponentsWithStats(known.astype(np.uint8), connectivity=4)
    touched = np.zeros(count, bool)
    touched[np.unique(label[sure])] = True
    touched[0] = False
    known &= touched[label]
    # edges of the background move by a fraction of a pixel: a shaking floor, a lens that breathes
    soft = cv2.GaussianBlur(color, (0, 0), 0.8)
    slope = np.sqrt(
        sum(cv2.Sobel(soft[..., c], cv2.CV_32F, k, 1 - k, scale=1 / 8) ** 2 for c in range(3) for k in (0, 1))
    )
    sigma = np.sqrt(np.maximum(noise, spread) ** 2 + (0.25 * slope) ** 2)
    return Background(np.asarray(color, np.float32), known, np.asarray(support, np.float32), sigma.astype(np.float32))


def _islands(unknown: Mask) -> Mask:
    """Pieces of what is not known as background that are small against the largest, which is where the subject is, and that lie
    outside of the hull of all large ones."""
    count, label, stats, _ = cv2.connectedComponentsWithStats(unknown.astype(np.uint8), connectivity=4)
    area = stats[1:, cv2.CC_STAT_AREA]
    if count <= 2:
        return np.zeros_like(unknown)
    small = np.concatenate([[False], area < 0.1 * area.max()])[label]
    at = np.argwhere(unknown & ~small)[:, ::-1].astype(np.int32)
    hull = np.zeros(unknown.shape, np.uint8)
    cv2.fillConvexPoly(hull, cv2.convexHull(at), 1)
    inside = np.unique(label[small & (cv2.dilate(hull, np.ones((9, 9), np.uint8)) > 0)])
    return np.asarray(small & ~np.isin(label, inside))


def _bins(lab: NDArray[np.float32]) -> NDArray[np.int64]:
    at = np.stack([lab[..., 0] / 100.0, (lab[..., 1] + 80.0) / 160.0, (lab[..., 2] + 80.0) / 160.0], -1)
    return (at * BINS).clip(0, BINS - 1).astype(np.int64)


def _histogram(lab: NDArray[np.float32], where: Mask) -> NDArray[np.float32]:
    i = _bins(lab[where])
    out = np.bincount((i[:, 0] * BINS + i[:, 1]) * BINS + i[:, 2], minlength=BINS**3).astype(np.float32)
    return out.reshape(BINS, BINS, BINS)


def _smooth(table: NDArray[np.float32]) -> NDArray[np.float32]:
    kernel = np.array([0.25, 0.5, 0.25], np.float32)
    for axis in range(3):
        padded = np.concatenate([np.take(table, [0], axis), table, np.take(table, [-1], axis)], axis)
        parts = [np.take(padded, range(k, k + BINS), axis) for k in range(3)]
        table = sum(k * p for k, p in zip(kernel, parts))
    return table


def apart(lab: NDArray[np.float32], behind: Background) -> NDArray[np.float32]:
    """How far a frame's colours (H, W, 3) lie from the background, in units of its noise; shadows count less."""
    d = lab - behind.color
    light = d[..., 0]
    shadow = (light < 0) & (lab[..., 0] > 0.55 * behind.color[..., 0])
    weight = np.where(shadow, 0.5, 1.0)
    return np.asarray(np.sqrt((weight * light) ** 2 + d[..., 1] ** 2 + d[..., 2] ** 2) / behind.sigma, np.float32)


def learn_colors(labs: list[NDArray[np.float32]], behind: Background) -> Colors:
    """Colours of the subject against those behind it, from places where it surely is and surely is not."""
    front, back = np.zeros((BINS,) * 3, np.float32), np.zeros((BINS,) * 3, np.float32)
    never = ~behind.known
    for lab in labs:
        far = apart(lab, behind)
        moved = cv2.erode(((far > 8) | never).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        front += _histogram(lab, moved)
        back += _histogram(lab, behind.known & (far < 3))
    front, back = _smooth(front) + 1e-3, _smooth(back) + 1e-3
    ratio = np.log(front / front.sum() + 1e-5) - np.log(back / back.sum() + 1e-5)
    return Colors(ratio.clip(-3, 3).astype(np.float32))


@dataclass
class Study:
    """What was learnt of one stand of the camera: its background, and the colours of what moves before it."""

    behind: Background
    colors: Colors

    def arrays(self) -> dict[str, NDArray]:
        """For a file."""
        b = self.behind
        return {
            "color": b.color.astype(np.float16), "known": b.known, "support": b.support.astype(np.float16),
            "sigma": b.sigma.astype(np.float16), "table": self.colors.table,
        }  # fmt: skip

    @staticmethod
    def from_arrays(a: dict[str, NDArray]) -> Study:
        """From a file."""
        f = np.float32
        behind = Background(a["color"].astype(f), a["known"], a["support"].astype(f), a["sigma"].astype(f))
        return Study(behind, Colors(a["table"]))


def study(frames: NDArray[np.uint8]) -> Study:
    """Learn a stand's background from some of its frames (N, H, W, 3), FEWEST or more."""
    gains = evened(frames)
    behind = background_of(frames, gains)
    some = np.unique(np.linspace(0, len(frames) - 1, min(len(frames), 12)).astype(int))
    return Study(behind, learn_colors([to_lab(frames[k] * gains[k]) for k in some], behind))


def gain_for(rgb: NDArray[np.uint8], behind: Background, rounds: int = 3) -> NDArray[np.float32]:
    """Gains (3,) that bring a frame to the brightness and colour of the background."""
    thin = np.s_[::4, ::4]
    target = cv2.cvtColor(np.ascontiguousarray(behind.color[thin]), cv2.COLOR_LAB2RGB) * 255.0 + 1.0
    mine = rgb[thin].astype(np.float32) + 1.0
    use = behind.still[thin]
    if use.sum() < 50:
        use = border(*use.shape)
    gain = np.ones(3, np.float32)
    for _ in range(rounds):
        gain = np.median(target[use] / mine[use], axis=0)
        near = use & (np.abs(mine * gain - target).max(2) < 10.0)
        if near.sum() < 50:
            break
        use = near
    return np.asarray(gain, np.float32)


def mask_of(rgb: NDArray[np.uint8], learnt: Study) -> tuple[Mask, float]:
    """Mask (H, W) of the subject in a photo (H, W, 3) of any size, and how sure it is (0 to 1)."""
    h, w = learnt.behind.known.shape
    small = cv2.resize(rgb, (w, h), interpolation=cv2.INTER_AREA) if rgb.shape[:2] != (h, w) else rgb
    mask, sure = subject_of(np.asarray(small), learnt)
    return enlarged(mask, rgb), sure


def subject_of(rgb: NDArray[np.uint8], learnt: Study) -> tuple[Mask, float]:
    """Mask (H, W) of the subject in a frame of the background's size, and how sure it is (0 to 1)."""
    behind, colors = learnt.behind, learnt.colors
    lab = to_lab(rgb * gain_for(rgb, behind))
    far = cv2.medianBlur(apart(lab, behind), 5)
    change = ((far - 2.6) * 0.7).clip(-4, 6)
    ratio = colors.of(lab)
    odds = np.where(behind.known, change + 0.3 * ratio, 1.0 + ratio)
    radius = max(2, round(max(rgb.shape[:2]) / 100))
    chance = 1 / (1 + np.exp(-odds))
    smooth = guided(rgb, chance, radius, 3e-4)
    mask = largest_parts(smooth > 0.5)
    mask = without_pinholes(mask, 0.004 * max(mask.sum(), 1))
    # sure where the evidence was, before it was smoothed
    agreed = float(np.mean((chance > 0.5)[mask])) if mask.any() else 0.0
    return mask, agreed
