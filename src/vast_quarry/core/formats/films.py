"""Films: MP4 and WebM with VP9 (by PyAV), GIF (by Pillow). None of them needs an encoder under the GPL."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from vast_quarry.core.formats.atomic import atomic_path, no_such_format, told_when_it_fails

KINDS = (".mp4", ".webm", ".gif")


def write_film(path: Path, pictures: Iterable[NDArray[np.uint8]], rate: int) -> None:
    """Write pictures (H, W, 3), blue, green, red, as a film; sides are even numbers.

    Raises
    ------
    PlainError
        When the ending says no kind of film, or it cannot be written.
    """
    kind = path.suffix.lower()
    if kind not in KINDS:
        raise no_such_format(path.suffix or path.name, KINDS)
    with told_when_it_fails(path), atomic_path(path) as part:
        (_gif if kind == ".gif" else _video)(part, pictures, rate)


def _video(path: Path, pictures: Iterable[NDArray[np.uint8]], rate: int) -> None:
    import av

    with av.open(str(path), "w") as out:
        stream = None
        for picture in pictures:
            if stream is None:
                stream = out.add_stream("libvpx-vp9", rate=Fraction(rate))
                stream.height, stream.width = picture.shape[0] // 2 * 2, picture.shape[1] // 2 * 2
                stream.pix_fmt = "yuv420p"
                stream.options = {"crf": "24", "b:v": "0", "cpu-used": "8", "deadline": "realtime", "row-mt": "1"}
            even = picture[: stream.height, : stream.width]
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(even), format="bgr24")
            out.mux(stream.encode(frame))
        if stream is not None:
            out.mux(stream.encode(None))


def _gif(path: Path, pictures: Iterable[NDArray[np.uint8]], rate: int) -> None:
    images = [Image.fromarray(np.ascontiguousarray(p[..., ::-1])).quantize(128) for p in pictures]
    images[0].save(path, save_all=True, append_images=images[1:], duration=round(1000 / rate), loop=0)
