"""JSON files of ours that are changed in place: by one at a time, whichever thread or process."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from vast_quarry.core.formats.atomic import read_json, write_json
from vast_quarry.core.formats.lock import release, wait_for


@contextmanager
def changed(path: Path, kind: type[dict] | type[list] = dict) -> Iterator[Any]:
    """What the file holds, to be changed; written back when all went well.

    Raises
    ------
    PlainError
        When the file is there and cannot be read: then it stays as it is.
    """
    handle = wait_for(path.with_name(f".{path.name}.lock"))
    try:
        value = read_json(path, kind)
        yield value
        write_json(path, value)
    finally:
        release(handle)
