"""Files that come in: all of a file is on the disk before it has its name, and no name is ever taken twice."""

from __future__ import annotations

import errno
import os
import secrets
import shutil
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import IO

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import sync
from vast_quarry.core.words import say


def arrive(
    what: Path | IO[bytes], wanted: Path, look: Callable[[Path], object] = lambda _: None, largest: int | None = None
) -> Path:
    """Bring a file in under the name that is wanted, or the next like it that is free; the name it has now.

    Parameters
    ----------
    what : Path or stream
        A file that has come already, on the same disk, is moved and not copied; it stays where it is when this fails.
    wanted : Path
    look : callable, optional
        Looks at the whole file before it gets its name; what it raises ends the arrival.
    largest : int, optional
        Bytes that are taken of a stream.

    Raises
    ------
    PlainError
        When a stream holds more than that.
    OSError
        When the disk is full or cannot be written.
    """
    wanted.parent.mkdir(parents=True, exist_ok=True)
    if isinstance(what, Path):
        look(what)
        sync(what)
        return _named(what, wanted)
    coming = wanted.parent / f".{secrets.token_hex(8)}.partial"
    try:
        with open(coming, "xb") as out:
            left = largest
            while block := what.read(1 << 20):
                if left is not None:
                    left -= len(block)
                    if left < 0:
                        raise PlainError(
                            say("{name} is larger than is taken.", name=wanted.name), "Choose a smaller file."
                        )
                out.write(block)
        look(coming)
        sync(coming)
        return _named(coming, wanted)
    finally:
        coming.unlink(missing_ok=True)


def arrive_all(copies: list[tuple[Path, Path]]) -> list[Path | OSError]:
    """Copy files, each under the name that is wanted or the next like it that is free; of each its name, or what went wrong.

    All are on the disk before the first has its name, and go there side by side: one after the other each would wait for its turn.
    """
    out: list[Path | OSError] = [OSError(errno.ECANCELED, "was not tried")] * len(copies)
    parts: dict[int, Path] = {}
    try:
        for k, (file, wanted) in enumerate(copies):
            parts[k] = wanted.parent / f".{secrets.token_hex(8)}.partial"
            try:
                wanted.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(file, parts[k])
            except OSError as error:
                parts.pop(k).unlink(missing_ok=True)
                out[k] = error
        with ThreadPoolExecutor(8) as several:
            list(several.map(sync, parts.values()))
        for k, part in parts.items():
            try:
                out[k] = _named(part, copies[k][1], settle=False)
            except OSError as error:
                out[k] = error
    finally:
        for part in parts.values():
            part.unlink(missing_ok=True)
    for folder in {wanted.parent for _, wanted in copies if wanted.parent.is_dir()}:
        sync(folder)
    return out


def _named(file: Path, wanted: Path, settle: bool = True) -> Path:
    n, target = 0, wanted
    while True:
        try:
            os.link(file, target)
            file.unlink()
            break
        except FileExistsError:
            if os.path.samefile(file, target):  # it got its name before a kill
                file.unlink()
                break
            n += 1
            target = wanted.with_name(f"{wanted.stem} ({n}){wanted.suffix}")
        except OSError as error:
            if error.errno not in (errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK, errno.EXDEV):
                raise
            # a disk without links: the name is reserved first
            with open(target, "xb"):
                pass
            os.replace(file, target)
            break
    if settle:
        sync(target.parent)
    return target
