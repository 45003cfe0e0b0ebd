"""Writing files so that a killed process or a full disk never leaves half a file under the final name."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

import numpy as np


@contextmanager
def atomic_write(path: Path) -> Iterator[IO[bytes]]:
    """Open a temporary neighbour of ``path`` for writing bytes; rename it into place when all went well."""
    temporary = path.with_name(f".{path.name}.{os.getpid()}.partial")
    try:
        with open(temporary, "wb") as out:
            yield out
            out.flush()
        os.replace(temporary, path)
    finally:
        temporary.unlink(missing_ok=True)


def _plain(value: Any) -> Any:
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, np.ndarray):
        return value.tolist()
    raise TypeError(f"cannot be written as JSON: {type(value).__name__}")


def write_json(path: Path, value: Any) -> None:
    """Write JSON (UTF-8), numpy values as plain numbers and lists."""
    with atomic_write(path) as out:
        out.write(json.dumps(value, indent=1, default=_plain, ensure_ascii=False).encode())


def write_arrays(path: Path, **arrays: Any) -> None:
    """Write arrays as an uncompressed NPZ file."""
    with atomic_write(path) as out:
        np.savez(out, **arrays)  # type: ignore[arg-type]


def link_or_copy(source: Path, target: Path) -> None:
    """The same file at a second place: as a hard link where the file system can, else as a copy. For immutable files."""
    target.unlink(missing_ok=True)
    try:
        os.link(source, target)
    except OSError:
        with open(source, "rb") as f, atomic_write(target) as out:
            shutil.copyfileobj(f, out)
