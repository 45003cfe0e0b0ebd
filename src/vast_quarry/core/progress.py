"""The one small protocol by which the core tells how far it is and is told to stop."""

from __future__ import annotations

from typing import Protocol


class Cancelled(Exception):
    """Raised by a progress callback when the user has asked to stop."""


class Progress(Protocol):
    """Called with the work done so far; may raise :class:`Cancelled`."""

    def __call__(self, done: float, total: float) -> None: ...


def silent(done: float, total: float) -> None:
    """Progress callback that says nothing."""
