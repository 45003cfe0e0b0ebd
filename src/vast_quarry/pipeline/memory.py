"""Peak memory of this process and its workers, by looking every half second; and memory that is free, handed back."""

from __future__ import annotations

import ctypes
import gc
import threading
from typing import Self

import psutil

#: share of the memory that is free that units of work may take together
SHARE = 0.8


def free_memory() -> float:
    """Bytes that units of work may take together now."""
    return SHARE * float(psutil.virtual_memory().available)


def give_back() -> None:
    """Hand what is free inside this process back to the system.

    The C library keeps what many small pieces took, as an octree's: of a surface through 1.7 million points 860 of 1,330 MB.
    """
    gc.collect()
    try:
        ctypes.CDLL(None).malloc_trim(0)
    except (OSError, AttributeError, TypeError):  # another C library than GNU's
        return


class MemoryWatch:
    """Context manager; ``peak`` is the largest resident set of all processes together, in bytes."""

    def __init__(self, interval: float = 0.5) -> None:
        self.peak = 0
        self._since_mark = 0
        self._interval = interval
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)

    def _look(self) -> None:
        total = 0
        me = psutil.Process()
        for process in [me, *me.children(recursive=True)]:
            try:
                total += process.memory_info().rss
            except psutil.Error:
                continue
        self.peak = max(self.peak, total)
        self._since_mark = max(self._since_mark, total)

    def _watch(self) -> None:
        while not self._stop.wait(self._interval):
            self._look()

    def mark(self) -> int:
        """Peak since the last mark, in bytes."""
        self._look()
        peak, self._since_mark = self._since_mark, 0
        return peak

    def __enter__(self) -> Self:
        self._look()
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._look()
        self._stop.set()
        self._thread.join()
