"""Decoding what the picture library alone does not: camera raw, HEIC, pictures of 16 bits a channel, colour profiles.

Camera raw is developed by LibRaw (through rawpy) with the camera's own white balance, linear and in 16 bits where linear
light is asked for, else with the sRGB curve. Colours of another profile are turned to sRGB.
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


def develop_raw(path: Path, linear: bool = False, half: bool = False) -> NDArray:
    """An upright raw picture (H, W, 3): sRGB uint8, or linear light uint16; at half size where that is enough.

    Raises
    ------
    PlainError
        When it cannot be read.
    """
    import rawpy

    curve = {"gamma": (1, 1), "no_auto_bright": True, "output_bps": 16} if linear else {"output_bps": 8}
    with _raw(path) as raw:
        try:
            return np.asarray(raw.postprocess(use_camera_wb=True, half_size=half, **curve))
        except rawpy.LibRawError as error:
            raise _DAMAGED from error


def deep_picture(path: Path, image: Image.Image) -> NDArray | None:
    """A picture of 16 bits a channel as stored (H, W, 3 or 4) uint16 RGB(A), not turned upright; None for any other.

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
    return np.asarray(cv2.cvtColor(picture, order))


def _is_deep(path: Path, image: Image.Image) -> bool:
    """Whether a PNG or TIFF has 16 bits a channel, by its head."""
    if image.format == "PNG":
        with path.open("rb") as file:
            return file.read(25)[24:] == b"\x10"
    return image.format == "TIFF" and max(getattr(image, "tag_v2", {}).get(258, (8,))) == 16


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
