"""What the body of a real camera does between the light on its sensor and the file: each fault can be switched on.

The order is that of a camera: automatic exposure, colour fringes and flare (lens), Bayer sensor and demosaicing, automatic
white balance, noise reduction, tone curve, sharpening, JPEG. Amounts are those of middling phones and old cameras (common
practice, no source; set by eye).

References
----------
Bayer, B. (1976). Color imaging array. US patent 3,971,065.
Hamilton, J., Adams, J. (1997). Adaptive color plane interpolation in single sensor color electronic camera (edge-aware
demosaicing, as in OpenCV's).
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.camera import Camera
from vast_quarry.core.rig.render import Shot, exposed, to_srgb8

Picture = NDArray[np.float32]

#: what can be switched on
FAULTS = {
    "bayer": "a Bayer sensor and demosaicing",
    "sharpening": "sharpening with halos",
    "smear": "noise reduction that smears fine texture",
    "jpeg": "JPEG of quality 75 with colours at half size",
    "fringes": "colour fringes towards the corners",
    "odd-lens": "a lens that no Brown polynomial fits exactly",
    "rolling": "rows read one after the other while the camera moves",
    "flare": "a veil and ghosts of bright light",
    "window": "a bright window in the background",
    "auto-exposure": "exposure that follows what is in the picture",
    "auto-balance": "white balance that follows what is in the picture",
    "breathing": "focal length that breathes with the focus",
    "gloss": "a glossy subject that mirrors the window",
    "bald": "surfaces with little texture in places",
    "grey": "grey pictures",
    "lamps": "light that drifts slowly in brightness and colour",
    "key-light": "a lamp that stays in the room while the subject turns on its table",
    "sun": "a sun besides the sky, with hard shadows",
}
#: cameras by name: which faults they have
CAMERAS: dict[str, frozenset[str]] = {
    "kind": frozenset(),
    "phone": frozenset(
        (
            "bayer",
            "sharpening",
            "smear",
            "jpeg",
            "odd-lens",
            "rolling",
            "auto-exposure",
            "auto-balance",
            "breathing",
            "bald",
        )
    ),
    "grabber": frozenset(("jpeg", "sharpening", "grey", "bald")),
    "harsh": frozenset(set(FAULTS) - {"grey", "lamps", "sun", "key-light"}),
}


def finished(linear: Picture, shot: Shot, faults: frozenset[str]) -> NDArray[np.uint8]:
    """The picture (H, W, 3) that a camera with faults makes of the radiance in front of its lens."""
    if "flare" in faults:
        linear = flared(linear, shot.camera)
    if "auto-exposure" in faults:
        # metered on the middle, as cameras do
        h, w = linear.shape[:2]
        seen = linear[h // 4 : h - h // 4, w // 4 : w - w // 4].clip(0, 2).mean()
        shot.exposure = float(np.clip(0.24 / max(float(seen), 1e-3), 0.2, 6.0))
    if "fringes" in faults:
        linear = fringed(linear, shot.camera)
    signal = exposed(linear, shot)
    if "bayer" in faults:
        signal = demosaiced(signal)
    if "auto-balance" in faults:
        mean = signal.clip(0, 1).reshape(-1, 3).mean(0)
        # halfway to a grey world
        signal = signal * ((mean.mean() / np.maximum(mean, 1e-3)) ** 0.5).astype(np.float32)
    picture = to_srgb8(signal)
    if "smear" in faults:
        picture = np.asarray(cv2.bilateralFilter(picture, 5, 22, 1.6), np.uint8)
    if "sharpening" in faults:
        soft = cv2.GaussianBlur(picture, (0, 0), 1.1)
        picture = np.asarray(cv2.addWeighted(picture, 1.9, soft, -0.9, 0), np.uint8)
    if "grey" in faults:
        picture = np.repeat(cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)[..., None], 3, axis=2)
    return picture


def demosaiced(signal: Picture) -> Picture:
    """A picture seen through a Bayer mosaic (red first) and put together again."""
    raw = signal[..., 1].copy()
    raw[::2, ::2] = signal[::2, ::2, 0]
    raw[1::2, 1::2] = signal[1::2, 1::2, 2]
    counts = np.round(raw.clip(0, 1) * 16383).astype(np.uint16)
    # OpenCV names a pattern by its second row and column: what begins with red is its BG
    return np.asarray(cv2.demosaicing(counts, cv2.COLOR_BayerBG2RGB).astype(np.float32) / 16383)


def fringed(linear: Picture, camera: Camera, amount: float = 0.0012) -> Picture:
    """Red a little larger and blue a little smaller than green (lateral chromatic aberration)."""
    out = linear.copy()
    for channel, size in ((0, 1 + amount), (2, 1 - amount)):
        m = np.array([[size, 0, camera.cx * (1 - size)], [0, size, camera.cy * (1 - size)]])
        out[..., channel] = cv2.warpAffine(
            linear[..., channel],
            m,
            (camera.width, camera.height),
            flags=cv2.INTER_CUBIC,
            borderMode=cv2.BORDER_REPLICATE,
        )
    return out


def flared(linear: Picture, camera: Camera) -> Picture:
    """Light that strays in the lens: a veil about what is bright, and its faint ghost across the middle."""
    bright = np.maximum(linear - 1.0, 0.0)
    veil = cv2.GaussianBlur(linear, (0, 0), camera.width / 9)
    glow = cv2.GaussianBlur(bright, (0, 0), camera.width / 40)
    ghost = cv2.GaussianBlur(bright[::-1, ::-1], (0, 0), camera.width / 60)
    return np.asarray(
        linear * 0.97 + 0.03 * veil + 0.06 * glow + 0.015 * ghost * np.array([0.6, 1.0, 0.8], np.float32), np.float32
    )
