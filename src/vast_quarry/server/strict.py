"""What requests may hold: numbers that are numbers and fit, and text that can be written.

JSON as Python reads it knows NaN, Infinity, integers of any length and halves of characters; nothing behind a request does.

References
----------
RFC 8259, section 6 (numbers) and 8.2 (characters of unpaired surrogates).
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Coroutine
from typing import Any

from fastapi import APIRouter, Request, Response
from fastapi.routing import APIRoute

#: largest whole number, as the database takes it
LARGEST = 2**63 - 1


def _no_number(text: str) -> float:
    raise ValueError(f"{text} is no number")


def _number(text: str) -> float:
    value = float(text)
    return value if math.isfinite(value) else _no_number(text)


def _whole(text: str) -> int:
    # how long it may be, before it is read: that takes the square of its length
    if len(text) > 20 or abs(int(text)) > LARGEST:
        raise ValueError("a whole number is too large")
    return int(text)


def read_json(body: bytes) -> Any:
    """What a body holds.

    Raises
    ------
    json.JSONDecodeError
        When it is no JSON, or holds what is no number or no text.
    """
    try:
        value = json.loads(body, parse_constant=_no_number, parse_float=_number, parse_int=_whole)
        json.dumps(value, ensure_ascii=False).encode("utf-8")
    except json.JSONDecodeError:
        raise
    except (ValueError, RecursionError) as error:  # of unpaired surrogates too
        raise json.JSONDecodeError(str(error)[:200], "", 0) from error
    return value


class StrictRequest(Request):
    """A request whose JSON is read so."""

    async def json(self) -> Any:
        """Its body."""
        if not hasattr(self, "_json"):
            self._json = read_json(await self.body())
        return self._json


class StrictRoute(APIRoute):
    """A route whose requests are read so."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        """As it is called."""
        handler = super().get_route_handler()

        async def strict(request: Request) -> Response:
            return await handler(StrictRequest(request.scope, request.receive))

        return strict


def router(prefix: str = "", tag: str = "") -> APIRouter:
    """Addresses of one kind of thing."""
    return APIRouter(prefix=prefix, tags=[tag], route_class=StrictRoute)
