"""Writing files so that a killed process, a power cut or a full disk never leaves half a file under the final name."""

from __future__ import annotations

import errno
import json
import os
import secrets
import shutil
import zipfile
from collections.abc import Collection, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

import numpy as np

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say


def sync(path: Path) -> None:
    """Have a file, or a folder's list of names, on the disk itself before going on."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.EOPNOTSUPP):  # some network disks cannot be asked for that
            raise
    finally:
        os.close(handle)


@contextmanager
def atomic_write(path: Path, durable: bool = False) -> Iterator[IO[bytes]]:
    """Open a temporary neighbour of ``path`` for writing bytes; rename it into place when all went well.

    Parameters
    ----------
    path : Path
    durable : bool
        Come back only when file and name are on the disk itself: for what nobody could make again.
    """
    # two threads of one process may write the same file at once
    temporary = path.with_name(f".{path.name}.{os.getpid()}.{secrets.token_hex(4)}.partial")
    try:
        with open(temporary, "xb") as out:
            yield out
            out.flush()
            if durable:
                os.fsync(out.fileno())
        os.replace(temporary, path)
        if durable:
            sync(path.parent)
    finally:
        temporary.unlink(missing_ok=True)


@contextmanager
def atomic_path(path: Path) -> Iterator[Path]:
    """The name of a temporary neighbour of ``path`` with the same ending, for what writes files itself; renamed as in :func:`atomic_write`."""
    temporary = path.with_name(f".{path.stem}.{os.getpid()}.{secrets.token_hex(4)}.partial{path.suffix}")
    try:
        yield temporary
        os.replace(temporary, path)
    finally:
        temporary.unlink(missing_ok=True)


@contextmanager
def told_when_it_fails(path: Path) -> Iterator[None]:
    """Make the folder of a file that the user asked for, and say in words when it cannot be written.

    Raises
    ------
    PlainError
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        yield
    except OSError as error:
        raise PlainError(
            say("{path} cannot be written ({why}).", path=path, why=error.strerror or error),
            "Check the folder and the space left.",
        ) from error


def no_such_format(name: str, kinds: Iterable[str]) -> PlainError:
    """What is said of a format that cannot be written; ``kinds`` are endings with their dot."""
    listed = ", ".join(k.lstrip(".") for k in kinds)
    return PlainError(
        say("{name} is no format that can be written.", name=name), say("Use one of {list}.", list=listed)
    )


def _plain(value: Any) -> Any:
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, np.ndarray):
        return value.tolist()
    raise TypeError(f"cannot be written as JSON: {type(value).__name__}")


def write_json(path: Path, value: Any, durable: bool = True) -> None:
    """Write JSON (UTF-8), numpy values as plain numbers and lists."""
    with atomic_write(path, durable) as out:
        out.write(json.dumps(value, indent=1, default=_plain, ensure_ascii=False).encode())


def read_json(path: Path, kind: type[dict] | type[list] = dict) -> Any:
    """What a JSON file of ours holds; an empty one of its kind where there is no file.

    A file that is there and cannot be read is never taken for an empty one: written back, that would lose what it holds.

    Raises
    ------
    PlainError
        When the file is there and cannot be read, or holds something else.
    """
    try:
        found = json.loads(path.read_bytes())
    except FileNotFoundError:
        return kind()
    except (OSError, ValueError) as error:
        raise PlainError(
            say(
                "{path} cannot be read ({why}), and is left as it is.",
                path=path,
                why=getattr(error, "strerror", None) or "it is damaged",
            ),
            "Put it back from a copy; or move it away, and what it held is asked for again.",
        ) from error
    if not isinstance(found, kind):
        raise PlainError(
            say("{path} holds something else than it should, and is left as it is.", path=path), "Move it away."
        )
    return found


def write_arrays(path: Path, **arrays: Any) -> None:
    """Write arrays as an uncompressed NPZ file."""
    with atomic_write(path) as out:
        np.savez(out, **arrays)  # type: ignore[arg-type]


def array_shapes(path: Path) -> dict[str, tuple[int, ...]]:
    """Shapes of the arrays of an NPZ file, without reading the arrays."""
    read = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}
    out = {}
    with zipfile.ZipFile(path) as z:
        for name in z.namelist():
            with z.open(name) as f:
                out[name.removesuffix(".npy")] = read[np.lib.format.read_magic(f)](f)[0]  # type: ignore[no-untyped-call]
    return out


def is_whole(path: Path) -> bool:
    """Whether a file is there and not cut: what a power cut left empty or short is to be made again.

    Of archives of arrays the end is looked at, which lists what is in them; an array has to be as long as its head says;
    JSON has to be complete; of others only that there is something.
    """
    try:
        if path.stat().st_size == 0:
            return False
        if path.suffix == ".npz":
            return zipfile.is_zipfile(path)
        if path.suffix == ".npy":
            np.load(path, mmap_mode="r")
        elif path.suffix == ".json":
            json.loads(path.read_bytes())
        return True
    except (OSError, ValueError, EOFError):
        return False


def link_or_copy(source: Path, target: Path) -> None:
    """The same file at a second place: as a hard link where the file system can, else as a copy. For immutable files."""
    target.unlink(missing_ok=True)
    try:
        os.link(source, target)
    except OSError:
        with open(source, "rb") as f, atomic_write(target) as out:
            shutil.copyfileobj(f, out)


def link_all(source: Path, target: Path, besides: Collection[str] = ()) -> None:
    """Every file below a folder at the same place below another, see :func:`link_or_copy`; but for some names."""
    for file in sorted(source.rglob("*")):
        if file.is_file() and file.name not in besides:
            there = target / file.relative_to(source)
            there.parent.mkdir(parents=True, exist_ok=True)
            link_or_copy(file, there)
