"""Decoding what the picture library alone does not: camera raw, HEIC, pictures of 16 bits a channel, colour profiles.

Camera raw is developed by LibRaw (through rawpy) with the camera's own white balance, linear and in 16 bits where linear
light is asked for, else with the sRGB curve; brightness is as it was exposed, whatever else is in the frame. Colours of another profile are turned to sRGB.
"""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageCms

from vast_quarry.core.errors import PlainError

RAW_ENDINGS = {".dng", ".cr2", ".cr3", ".nef", ".arw", ".raf", ".orf", ".rw2", ".pef", ".srw"}
HEIF_ENDINGS = {".heic", ".heif"}
#: power and slope of the sRGB curve (IEC 61966-2-1), as LibRaw takes them
SRGB_CURVE = (2.4, 12.92)
_DAMAGED = PlainError("is cut short or damaged.", "Copy it again from the camera.")


def register_heif() -> None:
    """Let the picture library open HEIC and HEIF."""
    import pi_heif

    pi_heif.register_heif_opener()


def is_raw(path: Path) -> bool:
    """Whether a file is a camera's raw picture by its ending."""
    return path.suffix.lower() in RAW_ENDINGS


def raw_size(path: Path) -> tuple[int, int]:
    """Width and height of a raw picture as developed, upright.

    Raises
    ------
    PlainError
        When it cannot be read.
    """
    with _raw(path) as raw:
        s = raw.sizes
        turned = s.flip in (5, 6)
        return (s.height, s.width) if turned else (s.width, s.height)


def _raw(path: Path) -> Any:
    import rawpy

    try:
        return rawpy.imread(str(path))
    except (rawpy.LibRawError, OSError) as error:
        raise PlainError("is not a raw picture that can be read.", "Leave it out or export it as JPEG.") from error


def develop_raw(path: Path, linear: bool = False, half: bool = False, bits: int = 8) -> NDArray:
    """An upright raw picture (H, W, 3): sRGB of 8 or 16 ``bits``, or linear light uint16; at half size where that is enough.

    Raises
    ------
    PlainError
        When it cannot be read.
    """
    import rawpy

    curve = {"gamma": (1, 1), "output_bps": 16} if linear else {"gamma": SRGB_CURVE, "output_bps": bits}
    with _raw(path) as raw:
        try:
            # neither brightness nor white go by what else is in the frame: shots of one exposure stay alike, and nothing is clipped
            return np.asarray(
                raw.postprocess(
                    use_camera_wb=True, half_size=half, no_auto_bright=True, adjust_maximum_thr=0.0, **curve
                )
            )
        except rawpy.LibRawError as error:
            raise _DAMAGED from error


def turns_by_itself(image: Image.Image) -> bool:
    """Whether a picture comes upright out of both libraries that decode, whatever they are told: TIFF does."""
    return image.format == "TIFF"


def upright(picture: NDArray, orientation: int) -> NDArray:
    """An array (H, W, ...) turned and mirrored as EXIF's orientation says."""
    if orientation >= 5:
        picture = picture.swapaxes(0, 1)
    across, down = orientation in (2, 3, 6, 7), orientation in (3, 4, 7, 8)
    return picture[:: -1 if down else 1, :: -1 if across else 1]


def deep_picture(path: Path, image: Image.Image, orientation: int) -> NDArray | None:
    """A picture of 16 bits a channel (H, W, 3 or 4) uint16 RGB(A), upright; None for any other.

    ``image`` is the same picture, opened: its head tells, so that only deep pictures are read again.
    """
    if not _is_deep(path, image):
        return None
    data = np.fromfile(path, np.uint8)
    flags = cv2.IMREAD_UNCHANGED | cv2.IMREAD_IGNORE_ORIENTATION
    picture = cv2.imdecode(data, flags)
    if picture is None or picture.dtype != np.uint16 or picture.ndim != 3 or picture.shape[2] not in (3, 4):
        return None
    order = cv2.COLOR_BGRA2RGBA if picture.shape[2] == 4 else cv2.COLOR_BGR2RGB
    rgb = np.asarray(cv2.cvtColor(picture, order))
    return rgb if turns_by_itself(image) else np.ascontiguousarray(upright(rgb, orientation))


def _is_deep(path: Path, image: Image.Image) -> bool:
    """Whether a PNG or TIFF has 16 bits a channel, by its head."""
    if image.format == "PNG":
        with path.open("rb") as file:
            return file.read(25)[24:] == b"\x10"
    return image.format == "TIFF" and max(getattr(image, "tag_v2", {}).get(258, (8,))) == 16


#: steps along each side of the cube by whose corners 16-bit colours of a profile are turned to sRGB
CUBE = 52


def deep_as_srgb(picture: NDArray[np.uint16], profile: bytes | None) -> NDArray[np.uint16]:
    """A picture (H, W, 3) of 16 bits with the colours of its profile turned to sRGB.

    Colour management takes 8 bits only: the corners of a cube of every fifth of its values are turned, and what lies between them is
    taken by lines. So no step of 8 bits shows, and values are off by a half of one at most, and by what the curve bends between corners.
    """
    if not profile:
        return picture
    from scipy.ndimage import map_coordinates

    # 0, 5, ... 255: what is turned are whole values of 8 bits
    side = np.arange(CUBE) * (255 // (CUBE - 1))
    corners = np.stack(np.meshgrid(side, side, side, indexing="ij"), -1).astype(np.uint8)
    sheet = Image.fromarray(corners.reshape(CUBE * CUBE, CUBE, 3))
    sheet.info["icc_profile"] = profile
    turned = as_srgb(sheet)
    if turned is sheet:
        return picture
    cube = np.asarray(turned, np.float32).reshape(corners.shape) * np.float32(257)
    out = np.empty_like(picture)
    rows = max(1, (1 << 20) // picture.shape[1])
    for first in range(0, len(picture), rows):
        part = picture[first : first + rows]
        at = (part.reshape(-1, 3) * ((CUBE - 1) / 65535.0)).T
        for k in range(3):
            value = map_coordinates(cube[..., k], at, order=1, mode="nearest")
            out[first : first + rows, :, k] = np.clip(value + 0.5, 0, 65535).reshape(part.shape[:2])
    return out


def as_srgb(image: Image.Image) -> Image.Image:
    """A picture with the colours of its profile turned to sRGB; a broken or grey profile counts as sRGB."""
    profile = image.info.get("icc_profile")
    if not profile or image.mode not in ("RGB", "RGBA"):
        return image
    try:
        source = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        name = ImageCms.getProfileDescription(source).lower()
        if "srgb" in name:
            return image
        target = ImageCms.createProfile("sRGB")
        turned = ImageCms.profileToProfile(image, source, target, outputMode=image.mode)
    except (ImageCms.PyCMSError, OSError, ValueError, TypeError):
        return image
    return turned if turned is not None else image
