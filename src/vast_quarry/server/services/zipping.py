"""ZIP files that are sent while they are written, so that neither memory nor disk holds them whole."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.reading import photo_names
from vast_quarry.core.photo.tone import apply_tone
from vast_quarry.pipeline.apart import load_rgb
from vast_quarry.server.models import Project
from vast_quarry.server.services.folders import Folders, safe_path
from vast_quarry.server.services.tones import tone_for

_BLOCK = 1 << 20


class _Sent(io.RawIOBase):
    """What a ZIP file is written to: it cannot be gone back in, and gives out what came."""

    def __init__(self) -> None:
        self.parts: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, data: bytes) -> int:  # type: ignore[override]
        self.parts.append(bytes(data))
        return len(data)

    def taken(self) -> bytes:
        """What was written since the last time."""
        out = b"".join(self.parts)
        self.parts.clear()
        return out


def zipped(members: Iterable[tuple[str, Path | bytes]]) -> Iterator[bytes]:
    """The bytes of a ZIP file of members, by name: files, or what they hold."""
    sink = _Sent()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_STORED) as out:  # type: ignore[arg-type]
        for name, what in members:
            if isinstance(what, bytes):
                out.writestr(name, what)
                yield sink.taken()
                continue
            info = zipfile.ZipInfo.from_file(what, name, strict_timestamps=False)
            with what.open("rb") as source, out.open(info, "w", force_zip64=True) as target:
                while block := source.read(_BLOCK):
                    target.write(block)
                    yield sink.taken()
    yield sink.taken()


def photos(
    project: Project, folders: Folders, paths: list[str] | None, evened: bool
) -> Iterator[tuple[str, Path | bytes]]:
    """Photos to be passed on: those named, or all that are kept, as they are or as they are read.

    Raises
    ------
    PlainError
        When there are none, or one is not there.
    """
    if paths is None:
        paths = [p for p in photo_names(folders.photos) if p not in set(project.left_out)]
    files = [(path, safe_path(folders.photos, path)) for path in paths]
    if not files:
        raise PlainError("There are no photos to pass on.", "Choose some in the contact sheet.")
    return _members(project, files, evened)


def _members(project: Project, files: list[tuple[str, Path]], evened: bool) -> Iterator[tuple[str, Path | bytes]]:
    for path, file in files:
        tone = tone_for(project, path) if evened else None
        if tone is None:
            yield path, file
        else:
            yield f"{path.rsplit('.', 1)[0]}.jpg", _jpeg(apply_tone(load_rgb(file), tone), file)


def _jpeg(rgb: NDArray[np.uint8], file: Path) -> bytes:
    """A JPEG of an upright picture, with what its camera noted of it."""
    out, exif = io.BytesIO(), None
    try:
        with Image.open(file) as image:
            data = image.getexif()
            data[0x0112] = 1  # it is upright now
            exif = data.tobytes()
    except (OSError, ValueError):  # raw photos keep theirs elsewhere
        exif = None
    Image.fromarray(rgb).save(out, format="JPEG", quality=95, subsampling=0, **({"exif": exif} if exif else {}))
    return out.getvalue()
