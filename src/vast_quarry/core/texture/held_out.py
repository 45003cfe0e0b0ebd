"""A photo that gave no colour, held against the model drawn from where it was taken: what a texture is worth.

References
----------
Waechter, M., Beljan, M., Fuhrmann, S., Moehrle, N., Kopf, J., Goesele, M. (2017). Virtual rephotography: novel view prediction error
for 3D reconstruction. ACM TOG 36(1).
Wang, Z., Bovik, A., Sheikh, H., Simoncelli, E. (2004). Image quality assessment: from error visibility to structural similarity.
IEEE Trans. Image Processing 13(4).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray
from skimage.metrics import structural_similarity

from vast_quarry.core.camera import Camera
from vast_quarry.core.raycast import MISS, RayScene
from vast_quarry.core.texture.coloring import pixel_rays

Bytes = NDArray[np.uint8]

#: rays along each side of a pixel; rows that are drawn at a time
FINE, ROWS = 2, 256
#: middle grey: nothing is shown
MIDDLE = 128
#: pixels from the edge of what is seen within which nothing is compared, and of SSIM's window
RIM, SIGMA = 3, 1.5


@dataclass
class Model:
    """A textured mesh.

    Attributes
    ----------
    scene : RayScene
        Its triangles.
    uv : (W, 2)
        Texels (x right, y down, centres at integers) of wedges.
    faces : (M, 3) int
        In terms of wedges, in the order of the scene's triangles.
    atlas : (S, S, 3) uint8
    """

    scene: RayScene
    uv: NDArray[np.float64]
    faces: NDArray[np.int64]
    atlas: Bytes


def drawn(model: Model, camera: Camera, rotation: NDArray, center: NDArray) -> tuple[Bytes, NDArray[np.float32]]:
    """The model as a camera sees it (H, W, 3), black elsewhere, and how much of each pixel it covers (H, W)."""
    out = np.zeros((camera.height, camera.width, 3), np.uint8)
    share = np.zeros((camera.height, camera.width), np.float32)
    large = camera.scaled(camera.width * FINE, camera.height * FINE)
    for first in range(0, camera.height, ROWS):
        rows = min(ROWS, camera.height - first)
        band = replace(large, height=rows * FINE, cy=large.cy - first * FINE)
        hit = model.scene.cast(pixel_rays(band, rotation, center))
        there = hit["face"] != MISS
        corner = model.faces[np.where(there, hit["face"], 0)]
        b, c = hit["uv"][:, :1], hit["uv"][:, 1:]
        at = (1 - b - c) * model.uv[corner[:, 0]] + b * model.uv[corner[:, 1]] + c * model.uv[corner[:, 2]]
        at = at.astype(np.float32).reshape(band.height, band.width, 2)
        color = cv2.remap(model.atlas, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        seen = there.reshape(band.height, band.width)
        size = (camera.width, rows)
        cover = cv2.resize(seen.astype(np.float32), size, interpolation=cv2.INTER_AREA)
        whole = cv2.resize(np.where(seen[..., None], color, 0).astype(np.float32), size, interpolation=cv2.INTER_AREA)
        out[first : first + rows] = (whole / np.maximum(cover, 1e-6)[..., None] + 0.5).clip(0, 255).astype(np.uint8)
        share[first : first + rows] = cover
    return out, share


@dataclass
class Likeness:
    """How like a photo a drawn model is, where both show the subject.

    Attributes
    ----------
    psnr : float
        Peak signal to noise ratio in dB.
    ssim : float
        Structural similarity, 1 for equal.
    share : float
        Of the photo's pixels that were compared.
    evened : (H, W, 3) uint8
        The model in the photo's brightness and colour, by one factor for each channel.
    compared : (H, W) bool
    """

    psnr: float
    ssim: float
    share: float
    evened: Bytes
    compared: NDArray[np.bool_]


def likeness(photo: Bytes, model: Bytes, share: NDArray[np.float32], mask: NDArray[np.bool_] | None) -> Likeness | None:
    """Compare a photo (H, W, 3) and the model drawn into it; None where nothing can be compared.

    Exposure and white balance of a photo are no fault of the model: one factor for each channel brings them together before.
    """
    inside = share > 0.999
    if mask is not None:
        inside &= mask
    inside = cv2.erode(np.pad(inside.astype(np.uint8), 1), np.ones((2 * RIM + 1,) * 2, np.uint8))[1:-1, 1:-1] > 0
    if inside.sum() < 100:
        return None
    a, b = photo[inside].astype(float), model[inside].astype(float)
    gain = (a * b).sum(0) / np.maximum((b * b).sum(0), 1e-9)
    evened = np.where(share[..., None] > 0, model * gain, 0).clip(0, 255)
    off = a - evened[inside]
    error = float((off**2).mean())
    one, other = (np.where(inside[..., None], x, 0).astype(np.float32) for x in (photo, evened))
    _, each = structural_similarity(
        one, other, channel_axis=2, data_range=255, gaussian_weights=True, sigma=SIGMA, use_sample_covariance=False, full=True
    )  # fmt: skip
    return Likeness(
        float(10 * np.log10(255**2 / max(error, 1e-6))), float(each[inside].mean()), float(inside.mean()),
        (evened + 0.5).astype(np.uint8), inside,
    )  # fmt: skip


def difference(photo: Bytes, alike: Likeness, times: float = 4.0) -> Bytes:
    """What the photo shows more or less than the model (H, W, 3), enlarged about middle grey; grey where nothing was compared."""
    off = (photo.astype(np.float32) - alike.evened) * times
    return (np.where(alike.compared[..., None], off, 0) + MIDDLE + 0.5).clip(0, 255).astype(np.uint8)


def about(shown: NDArray[np.bool_], margin: float = 0.06) -> tuple[slice, slice]:
    """Rows and columns about what is shown of a picture (H, W), with a margin in parts of its larger side."""
    slices = []
    at = [np.flatnonzero(shown.any(k)) for k in (1, 0)]
    more = int(margin * max((int(np.ptp(a)) for a in at if len(a)), default=0))
    for a, size in zip(at, shown.shape):
        slices.append(slice(max(0, int(a[0]) - more), min(size, int(a[-1]) + 1 + more)) if len(a) else slice(0, size))
    return slices[0], slices[1]
