"""Functions that stand for reading a file which does harm; they have to be importable by another process."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import Any

from vast_quarry.pipeline.glances import keep_glance
from vast_quarry.pipeline.steps.photos import inspect_photo

time.sleep(float(os.environ.get("VQ_TEST_SLOW_IMPORT", "0")))


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


def inspect_or_die(number: int, folder: str, path: str, unit: str) -> dict[str, Any]:
    if path == "deadly.png":
        os.abort()
    return inspect_photo(number, folder, path, unit)


def keep_or_die(folder: Path, path: str, masks: Path | None, kept: Path) -> Path:
    if path == "deadly.png":
        os.abort()
    return keep_glance(folder, path, masks, kept)


def inspect_or_hang(number: int, folder: str, path: str, unit: str) -> dict[str, Any]:
    if path == "deadly.png":
        time.sleep(3600)
    return inspect_photo(number, folder, path, unit)
