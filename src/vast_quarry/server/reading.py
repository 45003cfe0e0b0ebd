"""Requests that read pictures which people brought wait for each other, and never hold up anything else.

The server answers with so many threads in all. A file that is slow to read keeps one of them; with a bound of their own, forty
thumbnails of a disk that hangs leave jobs, Stop and lists as quick as ever.
"""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable, Coroutine
from typing import Any, ParamSpec, TypeVar

from anyio import CapacityLimiter, to_thread

P = ParamSpec("P")
T = TypeVar("T")

#: pictures that are read or made at once
AT_ONCE = 6
_limiter: CapacityLimiter | None = None


def pictures(function: Callable[P, T]) -> Callable[P, Coroutine[Any, Any, T]]:
    """The same endpoint, called in a thread of those that are for pictures."""

    @functools.wraps(function)
    async def called(*arguments: P.args, **named: P.kwargs) -> T:
        global _limiter
        if _limiter is None:
            _limiter = CapacityLimiter(AT_ONCE)
        return await to_thread.run_sync(functools.partial(function, *arguments, **named), limiter=_limiter)

    # annotations are text, to be understood where the endpoint is written
    called.__signature__ = inspect.signature(function, eval_str=True)  # type: ignore[attr-defined]
    return called
