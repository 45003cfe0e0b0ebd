"""Thumbnails and tiles made in the background, before they are asked for."""

from __future__ import annotations

import logging
import queue
import threading
from collections.abc import Callable
from functools import partial

from vast_quarry.core.errors import PlainError
from vast_quarry.server.services import pictures, tiles
from vast_quarry.server.services.folders import Folders

log = logging.getLogger(__name__)


class Ahead:
    """One quiet thread that makes pictures; what is asked for meanwhile is made by who asks.

    Tiles of the photo that is looked at come before thumbnails, the latest wish first.
    """

    def __init__(self) -> None:
        self._wishes: queue.PriorityQueue[tuple[int, int, Callable[[], object]]] = queue.PriorityQueue()
        self._seen: set[tuple[str, str, int]] = set()
        self._count = 0
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    def thumbnails(self, folders: Folders, paths: list[str]) -> None:
        """Make thumbnails of photos."""
        for path in paths:
            self._wish((str(folders.root), path, 0), 1, partial(pictures.thumbnail, folders, path, pictures.THUMB))

    def tiles(self, folders: Folders, path: str) -> None:
        """Cut a photo into tiles."""
        self._wish((str(folders.root), path, 1), 0, partial(tiles.cut, folders, path))

    def forget(self, folders: Folders) -> None:
        """A project was removed."""
        with self._lock:
            self._seen = {s for s in self._seen if s[0] != str(folders.root)}

    def wait(self) -> None:
        """Wait until everything wished for so far is made."""
        self._wishes.join()

    def _wish(self, name: tuple[str, str, int], rank: int, work: Callable[[], object]) -> None:
        with self._lock:
            if name in self._seen:
                return
            self._seen.add(name)
            self._count += 1
            self._wishes.put((rank, self._count if rank else -self._count, work))
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, daemon=True, name="pictures ahead")
                self._thread.start()

    def _work(self) -> None:
        while True:
            _, _, work = self._wishes.get()
            try:
                work()
            except (PlainError, OSError, ValueError, MemoryError):
                pass  # told where the photo is listed or opened; here it is only early
            except Exception:  # this thread serves all projects, as long as the server lives
                log.exception("a picture could not be made ahead")
            finally:
                self._wishes.task_done()
