"""Functions that stand for reading a file which does harm; they have to be importable by another process."""

from __future__ import annotations

import os
import time
from pathlib import Path


def pid_of(path: Path) -> int:
    return os.getpid()


def hang(path: Path) -> None:
    time.sleep(3600)


def crash(path: Path) -> None:
    os.abort()


def swallow(path: Path) -> int:
    return len(bytearray(40_000_000_000))


def stumble(path: Path) -> None:
    raise ZeroDivisionError("made up")


def no_disk(path: Path) -> None:
    raise OSError(28, "No space left on device")
