"""Where units of work run: processes on this machine, or a Dask scheduler named by ``VAST_QUARRY_SCHEDULER``."""

from __future__ import annotations

import multiprocessing
import os
import sys
import threading
import time
from concurrent.futures import ProcessPoolExecutor
from multiprocessing.context import BaseContext
from pathlib import Path

from vast_quarry.pipeline.cluster import ClusterPool
from vast_quarry.pipeline.memory import free_memory

#: one thread in each worker: the units are what runs side by side
_SINGLE = dict.fromkeys(("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS", "NUMBA_NUM_THREADS"), "1")


def cores() -> int:
    """Processors this process may use."""
    return max(1, len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1)


def _start_worker() -> None:
    """In a new worker: one thread for OpenCV, and an end when the parent is gone (it may have been killed)."""
    import cv2

    cv2.setNumThreads(1)
    parent = os.getppid()

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(1.0)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()


def _way() -> BaseContext:
    """How workers are started.

    On Linux they are forked from a process that has one thread and has loaded what they need already: a pool is there at once, where
    a fresh interpreter takes one and a half seconds for each worker. That process ends with this one, and its workers then see
    their parent gone. Elsewhere each is a fresh interpreter.
    """
    if sys.platform != "linux":
        return multiprocessing.get_context("spawn")
    way = multiprocessing.get_context("forkserver")
    # what runs here may be a script that loads the same: the name under which it would be loaded again
    way.set_forkserver_preload(
        ["vast_quarry.pipeline.registry", *(m for m in ("vast_quarry.cli.main",) if m in sys.modules)]
    )
    return way


def _nothing() -> None:
    """A first task, so that a worker starts now."""


class LocalPool(ProcessPoolExecutor):
    """Processes of this machine."""

    def check(self, ours: Path, theirs: Path | None = None) -> None:
        """See that workers see these folders: here they do."""

    def room(self) -> float:
        """Bytes that units may take together."""
        return free_memory()

    @property
    def cheap(self) -> bool:
        """Whether another one is there at once when this one is gone."""
        return sys.platform == "linux"


Pool = LocalPool | ClusterPool


def make_executor() -> Pool:
    """A fresh executor; shut it down after use."""
    scheduler = os.environ.get("VAST_QUARRY_SCHEDULER")
    if scheduler:
        return ClusterPool(scheduler)
    before = {k: os.environ.get(k) for k in _SINGLE}
    os.environ.update(_SINGLE)
    try:
        pool = LocalPool(cores(), mp_context=_way(), initializer=_start_worker)
        # workers inherit the environment when they start, so they have to start here
        for future in [pool.submit(_nothing) for _ in range(cores())]:
            future.result()
    finally:
        for k, v in before.items():
            if v is None:
                os.environ.pop(k, None)
            else:
                os.environ[k] = v
    return pool


class LazyExecutor:
    """Makes the executor at its first use, and shuts it down at the end."""

    def __init__(self) -> None:
        self._pool: Pool | None = None

    def __call__(self) -> Pool:
        if getattr(self._pool, "_broken", False):  # one of its processes died: it takes nothing any more
            self.close(at_once=True)
        if self._pool is None:
            self._pool = make_executor()
        return self._pool

    def rest(self) -> None:
        """Let processes go that would only hold memory for a while (they keep what they read last); the next use has others."""
        if self._pool is not None and self._pool.cheap:
            self.close()

    def close(self, at_once: bool = False) -> None:
        """Shut down; ``at_once`` without waiting for what still runs (its processes are ended)."""
        if self._pool is not None:
            processes = list((getattr(self._pool, "_processes", None) or {}).values())
            manager = getattr(self._pool, "_executor_manager_thread", None)
            self._pool.shutdown(wait=not at_once, cancel_futures=True)
            if at_once:
                for process in processes:
                    process.kill()
                if manager is not None:
                    # the interpreter's exit wakes every such thread through a pipe the thread itself is closing: two
                    # that meet there end a good command with a traceback, so the thread has to be gone before
                    manager.join(10.0)
            self._pool = None
