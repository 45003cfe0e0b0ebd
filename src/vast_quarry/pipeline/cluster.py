"""Units of work on several machines: those of a Dask scheduler that ``VAST_QUARRY_SCHEDULER`` names.

A unit reads files and writes files, so the folder of the work has to be seen under the same path by all machines; that, and that
all run the same version, is looked at before the first unit. Dask starts a unit again whose worker was lost. Each worker has one
thread, as those on this machine, so that results are the same to the bit wherever they were made.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Callable
from concurrent.futures import BrokenExecutor, Executor, Future
from pathlib import Path
from typing import Any

from vast_quarry import __version__
from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say

#: seconds to find the scheduler, and for its first worker
PATIENCE = 15.0
#: times that a unit is handed over again when the scheduler loses it
AGAIN = 3


class ClusterPool(Executor):
    """The workers of a Dask scheduler, as an executor."""

    def __init__(self, address: str) -> None:
        try:
            from distributed import Client
            from distributed.exceptions import TimeoutError as TooLate
        except ImportError as error:
            raise PlainError(
                "Work on several machines needs the package distributed.",
                "Install it: pip install 'vast-quarry[cluster]'.",
            ) from error
        try:
            self._client = Client(address, timeout=PATIENCE, set_as_default=False)
        except (OSError, ValueError, TooLate) as error:
            raise PlainError(
                say("The scheduler at {address} does not answer.", address=address),
                "Start it, or take VAST_QUARRY_SCHEDULER away to work on this machine alone.",
            ) from error
        try:
            self._client.wait_for_workers(1, timeout=PATIENCE)
        except (OSError, TooLate) as error:
            self._client.close()
            raise PlainError(
                say("The scheduler at {address} has no workers.", address=address),
                say("Start some: dask worker {address} --nthreads 1", address=address),
            ) from error
        self._checked: set[Path] = set()
        self._under_way: set[Any] = set()
        self._leaving = False
        self._check_versions(address)

    def _check_versions(self, address: str) -> None:
        for worker, version in self._client.run(_prepare).items():
            if version != __version__:
                self._client.close()
                raise PlainError(
                    say(
                        "The worker {worker} of {address} has another version ({theirs}, here {ours}).",
                        worker=worker, address=address, theirs=version, ours=__version__,
                    ),
                    "Install the same one there.",
                )  # fmt: skip

    def check(self, ours: Path, theirs: Path | None = None) -> None:
        """See that all workers see a folder of ours under this path, and one that only others write into.

        Raises
        ------
        PlainError
            When one does not.
        """
        if ours in self._checked:
            return
        probe = ours / f".seen.{secrets.token_hex(8)}"
        probe.write_bytes(b"")
        try:
            self._see(probe, ours)
        finally:
            probe.unlink(missing_ok=True)
        some = next((p for p in theirs.iterdir() if p.is_file()), None) if theirs is not None else None
        if some is not None and theirs is not None:
            self._see(some, theirs)
        self._checked.add(ours)

    def _see(self, file: Path, folder: Path) -> None:
        blind = [w for w, seen in self._client.run(os.path.exists, str(file)).items() if not seen]
        if blind:
            raise PlainError(
                say("The worker {worker} does not see the folder {folder}.", worker=blind[0], folder=folder),
                "Work in folders that all machines share, and give their full paths.",
            )

    #: whether another one is there at once when this one is gone
    cheap = False

    def room(self) -> float:
        """Bytes that units may take together: what the workers may."""
        workers = self._client.scheduler_info(n_workers=-1)["workers"].values()
        return float(sum(w.get("memory_limit") or 0 for w in workers)) or float("inf")

    def submit(self, work: Callable[..., Any], /, *args: Any, **kwargs: Any) -> Future[Any]:
        """Hand a unit over; when it takes one worker after the other down, the pool counts as broken by it."""
        out: Future[Any] = Future()
        out.set_running_or_notify_cancel()
        self._hand_over(out, work, args, kwargs, AGAIN)
        return out

    def _hand_over(
        self, out: Future[Any], work: Callable[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any], again: int
    ) -> None:
        """Have the scheduler do a unit, and do it ``again`` if it loses it: with a worker that dies while it hands a result over."""
        unit = self._client.submit(_alone, work, args, kwargs, pure=False)
        self._under_way.add(unit)

        def done(finished: Any) -> None:
            self._under_way.discard(finished)
            try:
                if finished.status == "finished":
                    out.set_result(finished.result())
                elif finished.status == "error":
                    error = finished.exception()
                    lost = type(error).__name__ == "KilledWorker"
                    out.set_exception(BrokenExecutor(str(error)) if lost else error)
                elif again and not self._leaving:
                    self._hand_over(out, work, args, kwargs, again - 1)
                else:
                    out.set_exception(BrokenExecutor("the scheduler has given the unit up"))
            except BaseException as error:  # the connection went while the result was fetched
                out.set_exception(BrokenExecutor(str(error)))

        unit.add_done_callback(done)

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """Leave the scheduler; what has not begun is taken back, what runs somewhere ends by itself and changes nothing."""
        self._leaving = True
        if cancel_futures and self._under_way:
            self._client.cancel(list(self._under_way), force=True)
        self._client.close(timeout=2.0)


def _prepare() -> str:
    """On a worker: one thread for everything; its version."""
    import cv2
    import numba
    from threadpoolctl import threadpool_limits

    cv2.setNumThreads(1)
    numba.set_num_threads(1)
    threadpool_limits(1)
    return __version__


def _alone(work: Callable[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
    """A unit in a worker that may have been started again since it was prepared."""
    _prepare()
    return work(*args, **kwargs)
