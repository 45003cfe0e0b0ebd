"""A lock on a file that the system lets go of when its holder ends, however it ends."""

from __future__ import annotations

import fcntl
import json
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


class Taken(Exception):
    """Somebody else holds the lock; ``whose`` tells who, as far as it is known, to be put into a sentence."""

    def __init__(self, whose: str) -> None:
        super().__init__(whose)
        self.whose = whose


def hold(path: Path, told: dict[str, str | int] | None = None) -> int:
    """Take the lock until :func:`release` or the end of the process; the handle comes back.

    Parameters
    ----------
    path : Path
        Made when it is not there; it stays, since removing it would let two hold it.
    told : dict, optional
        What others are to know of the holder.

    Raises
    ------
    Taken
        When another process (or handle) holds it.
    OSError
        When the file cannot be made.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        whose = _whose(os.pread(handle, 4096, 0))
        os.close(handle)
        raise Taken(whose) from None
    except OSError:
        os.close(handle)
        raise
    os.ftruncate(handle, 0)
    os.pwrite(handle, json.dumps({"process": os.getpid(), **(told or {})}).encode(), 0)
    return handle


def wait_for(path: Path, seconds: float = 30.0) -> int:
    """Take the lock as soon as its holder lets go.

    Raises
    ------
    Taken
        When it does not.
    """
    until = time.monotonic() + seconds
    while True:
        try:
            return hold(path)
        except Taken:
            if time.monotonic() > until:
                raise
            time.sleep(0.1)


def release(handle: int) -> None:
    """Let go."""
    os.close(handle)


@contextmanager
def lock(path: Path) -> Iterator[None]:
    """Hold the lock for a while."""
    handle = hold(path)
    try:
        yield
    finally:
        release(handle)


def _whose(text: bytes) -> str:
    try:
        found = json.loads(text)
        return f" (process {found['process']}{', ' + found['address'] if 'address' in found else ''})"
    except (ValueError, KeyError, TypeError):
        return ""
