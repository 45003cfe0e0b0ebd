"""Reading photos of any usual kind as upright 8-bit RGB, with plain words when that does not work."""

from __future__ import annotations

import os
import re
import warnings
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image, UnidentifiedImageError

from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.decode import (
    HEIF_ENDINGS,
    RAW_ENDINGS,
    as_srgb,
    deep_as_srgb,
    deep_picture,
    develop_raw,
    is_raw,
    raw_size,
    register_heif,
    turns_by_itself,
)
from vast_quarry.core.photo.exif import Exif, focal_length_pixels, read_exif
from vast_quarry.core.words import say

#: endings of file names taken for photos
PHOTO_ENDINGS = {".jpg", ".jpeg", ".png", ".tif", ".tiff", ".webp", ".tga", ".bmp"} | HEIF_ENDINGS | RAW_ENDINGS
#: largest photo that is decoded, in pixels
LARGEST = 200_000_000
#: smallest side of a photo that can hold enough to align it
SMALLEST_SIDE = 64

Image.MAX_IMAGE_PIXELS = None  # our own limit, with our own words


@dataclass(frozen=True)
class PhotoFacts:
    """A photo as seen upright: size, EXIF, focal length in pixels and where that came from."""

    width: int
    height: int
    exif: Exif
    focal: float
    focal_source: str


def find_photos(folder: Path) -> list[Path]:
    """Photos below a folder by their endings, in natural order; hidden files are passed over.

    Raises
    ------
    PlainError
        When the folder does not exist.
    """
    if not folder.exists():
        raise PlainError(say("There is no folder {folder}.", folder=folder), "Check the path.")
    if folder.is_file():
        raise PlainError(say("{folder} is a file.", folder=folder), "Give the folder that holds the photos.")
    return [folder / name for name in photo_names(folder)]


def photo_names(folder: Path) -> list[str]:
    """Names of the photos below a folder, as seen from it, in natural order; none where there is no folder."""
    found = []
    for at, inside, files in os.walk(folder):
        inside[:] = [d for d in inside if not d.startswith(".")]
        below = os.path.relpath(at, folder)
        for name in files:
            # a link to what is gone is told, not passed over
            if not name.startswith(".") and os.path.splitext(name)[1].lower() in PHOTO_ENDINGS:
                found.append(name if below == "." else os.path.join(below, name))
    return sorted(found, key=_natural)


def _natural(text: str) -> list[tuple[int, int, str]]:
    """Sorting key in which photo_9 comes before photo_10."""
    runs = re.split(r"(\d+)", text.lower())
    return [(0, int(run), run) if run.isdecimal() else (1, 0, run) for run in runs]


def _open(path: Path) -> Image.Image:
    if path.suffix.lower() in HEIF_ENDINGS:
        register_heif()
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            image = Image.open(path)
    except UnidentifiedImageError as error:
        raise PlainError("is not a picture that can be read.", "Leave it out or export it as JPEG.") from error
    except FileNotFoundError as error:
        raise PlainError("is no longer there.") from error
    except (OSError, ValueError, SyntaxError, OverflowError) as error:
        raise PlainError("cannot be opened; it may be damaged.", "Copy it again from the camera.") from error
    _check_size(*image.size)
    return image


def _check_size(width: int, height: int) -> None:
    """Refuse what is too large before it is decoded, and what is too small to align."""
    if width * height > LARGEST:
        raise PlainError(
            say(
                "has {megapixels} megapixels; up to {most} are taken.",
                megapixels=round(width * height / 1e6),
                most=round(LARGEST / 1e6),
            ),
            "Save a smaller copy of it.",
        )
    if min(width, height) < SMALLEST_SIDE:
        raise PlainError(
            say(
                "is only {width} x {height} pixels; {least} a side is the least that can be aligned.",
                width=width,
                height=height,
                least=SMALLEST_SIDE,
            )
        )


def read_facts(path: Path) -> PhotoFacts:
    """Size and EXIF of a photo without decoding it.

    Raises
    ------
    PlainError
        When it is no picture, too large or too small; the sentence goes after the photo's name.
    """
    if is_raw(path):
        width, height = raw_size(path)
        _check_size(width, height)
        exif = _raw_exif(path)
    else:
        image = _open(path)
        exif = read_exif(image)
        width, height = image.size
        if exif.orientation >= 5 and not turns_by_itself(image):
            width, height = height, width
    frame = exif.extra.get("source")
    # a cropped frame was taken through the lens of the whole one
    focal, source = focal_length_pixels(exif, *(frame["full"] if frame else (width, height)))
    return PhotoFacts(width, height, exif, focal, source)


def _raw_exif(path: Path) -> Exif:
    """EXIF of a raw picture, where it is laid out like a TIFF, as most are; its own orientation is applied already."""
    try:
        with Image.open(path) as image:
            return replace(read_exif(image), orientation=1)
    except (OSError, ValueError, SyntaxError):
        return Exif()


_TURNS = {
    2: Image.Transpose.FLIP_LEFT_RIGHT, 3: Image.Transpose.ROTATE_180, 4: Image.Transpose.FLIP_TOP_BOTTOM,
    5: Image.Transpose.TRANSPOSE, 6: Image.Transpose.ROTATE_270, 7: Image.Transpose.TRANSVERSE,
    8: Image.Transpose.ROTATE_90,
}  # fmt: skip


def _decoded(path: Path, side: int | None = None) -> Image.Image:
    image = _open(path)
    orientation = read_exif(image).orientation
    try:
        if side is not None:  # a JPEG is decoded at an eighth to a half of its size, which is several times quicker
            share = side / max(image.size)
            image.draft(None, (round(image.width * share), round(image.height * share)))
        image.load()
    except (OSError, ValueError, SyntaxError, MemoryError, EOFError) as error:
        raise PlainError("is cut short or damaged.", "Copy it again from the camera.") from error
    if orientation in _TURNS and not turns_by_itself(image):
        image = image.transpose(_TURNS[orientation])
    return image


def _as_rgb(image: Image.Image) -> NDArray[np.uint8]:
    if image.mode.startswith("I") or image.mode == "F":  # 16-bit or wider grey
        values = np.asarray(image).astype(np.float64)
        top = 65535.0 if values.max(initial=0) > 255 else 255.0
        grey = np.clip(values / top * 255.0 + 0.5, 0, 255).astype(np.uint8)
        return np.repeat(grey[..., None], 3, axis=2)
    if image.mode in ("RGBA", "LA", "PA") or "transparency" in image.info:
        image = as_srgb(image.convert("RGBA"))
        return np.ascontiguousarray(np.asarray(image)[..., :3])
    return np.asarray(as_srgb(image).convert("RGB"))


def load_rgb(path: Path, scale: float = 1.0) -> NDArray[np.uint8]:
    """The upright photo as (height, width, 3) uint8 RGB, smaller by ``scale`` (area averaging).

    Raises
    ------
    PlainError
        When it cannot be read; the sentence goes after the photo's name.
    """
    return resized(_full(path), scale)


def _full(path: Path) -> NDArray[np.uint8]:
    """The upright photo at full size."""
    if is_raw(path):
        _check_size(*raw_size(path))
        return np.asarray(develop_raw(path), np.uint8)
    image = _open(path)
    deep = deep_picture(path, image, read_exif(image).orientation)
    if deep is not None:
        eight = Image.fromarray(np.asarray((deep[..., :3].astype(np.uint32) * 255 + 32767) // 65535, np.uint8))
        eight.info["icc_profile"] = image.info.get("icc_profile")
        return np.asarray(as_srgb(eight))
    return _as_rgb(_decoded(path))


def load_deep(path: Path, scale: float = 1.0) -> NDArray[np.uint16]:
    """Like :func:`load_rgb`, in 16 bits a channel (uint16): of raw and 16-bit pictures all that they hold; 8-bit values times 257.

    Raises
    ------
    PlainError
        When it cannot be read; the sentence goes after the photo's name.
    """
    if is_raw(path):
        _check_size(*raw_size(path))
        return resized(develop_raw(path, bits=16), scale)
    image = _open(path)
    deep = deep_picture(path, image, read_exif(image).orientation)
    if deep is None:
        return resized(_as_deep(_decoded(path)), scale)
    return resized(deep_as_srgb(np.ascontiguousarray(deep[..., :3]), image.info.get("icc_profile")), scale)


def _as_deep(image: Image.Image) -> NDArray[np.uint16]:
    """A decoded picture of 8 bits, or a grey one of 16, as (H, W, 3) of 16 bits."""
    if image.mode.startswith("I"):
        values = np.asarray(image)
        if values.max(initial=0) > 255:  # what holds no more than 8 bits is taken for such
            return np.repeat(np.clip(values, 0, 65535).astype(np.uint16)[..., None], 3, axis=2)
    return _as_rgb(image).astype(np.uint16) * np.uint16(257)


def load_small(path: Path, side: int) -> NDArray[np.uint8]:
    """The upright photo with its longer side no longer than ``side``, quickly: to look at, not to measure in.

    Raises
    ------
    PlainError
        When it cannot be read.
    """
    rgb = np.asarray(develop_raw(path, half=True), np.uint8) if is_raw(path) else _small(path, side)
    return resized(rgb, min(1.0, side / max(rgb.shape[:2])))


def _small(path: Path, side: int) -> NDArray[np.uint8]:
    return _full(path) if path.suffix.lower() in (".tif", ".tiff") else _as_rgb(_decoded(path, side))


def resized(picture: NDArray, scale: float) -> NDArray:
    """A picture made smaller by averaging areas; the size is :func:`scaled_size`'s."""
    if scale >= 1.0:
        return picture
    height, width = picture.shape[:2]
    return cv2.resize(picture, scaled_size(width, height, scale), interpolation=cv2.INTER_AREA)


def scaled_size(width: int, height: int, scale: float) -> tuple[int, int]:
    """Width and height of a photo made smaller by ``scale``."""
    if scale >= 1.0:
        return width, height
    return max(1, round(width * scale)), max(1, round(height * scale))


def load_alpha(path: Path) -> NDArray[np.bool_] | None:
    """The upright photo's own mask from its alpha channel (True is kept), or None when it has none."""
    if is_raw(path):
        return None
    image = _open(path)
    deep = deep_picture(path, image, read_exif(image).orientation)
    if deep is not None:
        if deep.shape[2] < 4:
            return None
        kept = deep[..., 3] > 32767
        return kept if not kept.all() else None
    if image.mode not in ("RGBA", "LA", "PA") and "transparency" not in image.info:
        return None
    alpha = np.asarray(_decoded(path).convert("RGBA"))[..., 3]
    return alpha > 127 if (alpha <= 127).any() else None


def sharpness(gray: NDArray[np.uint8]) -> float:
    """How sharp a photo is: the 95th percentile of gradient over that of the contrast at a coarser size.

    A plain figure to compare photos of one set with; about 0.1 (blurred) to 1 (crisp).
    """
    g = cv2.GaussianBlur(gray, (0, 0), 0.7).astype(np.float32)
    fine = np.hypot(cv2.Sobel(g, cv2.CV_32F, 1, 0), cv2.Sobel(g, cv2.CV_32F, 0, 1)) / 8.0
    coarse = cv2.resize(g, None, fx=0.25, fy=0.25, interpolation=cv2.INTER_AREA)
    wide = np.hypot(cv2.Sobel(coarse, cv2.CV_32F, 1, 0), cv2.Sobel(coarse, cv2.CV_32F, 0, 1)) / 8.0
    return float(np.percentile(fine, 95) / max(np.percentile(wide, 95), 1e-3))
