"""Who asks: on this machine its own user, from the network whoever said a passphrase."""

from __future__ import annotations

import math
from typing import Literal

from fastapi import Request, Response
from pydantic import BaseModel, Field

from vast_quarry.core.words import Said, say
from vast_quarry.server import strict
from vast_quarry.server.access import COOKIE, LASTS, Access, token_of
from vast_quarry.server.problems import Problem, problem

router = strict.router("/api/v1/session", "session")


class SessionOut(BaseModel):
    """What whoever asks may do; nothing before they said who they are."""

    role: Literal["owner", "viewer"] | None
    #: whether the application is open to the network
    open: bool


class SessionIn(BaseModel):
    """A passphrase or a pairing code."""

    passphrase: str = Field(min_length=1, max_length=200)


def _access(request: Request) -> Access | None:
    found: Access | None = request.app.state.access
    return found


@router.get("")
def read(request: Request) -> SessionOut:
    """What whoever asks may do."""
    access = _access(request)
    return SessionOut(role=access.role(request.scope) if access else "owner", open=access is not None)


@router.post("", response_model=SessionOut, responses={401: {"model": Problem}, 429: {"model": Problem}})
def begin(request: Request, body: SessionIn, response: Response) -> SessionOut | Response:
    """Say a passphrase; the answer sets a cookie."""
    access = _access(request)
    if access is None:
        return SessionOut(role="owner", open=False)
    found = access.begin(body.passphrase, request.client.host if request.client else "")
    if not isinstance(found, tuple):
        if found > 0:
            text = say(
                "Too many wrong tries. Wait {seconds, plural, one {# second} other {# seconds}}.",
                seconds=math.ceil(found),
            )
            return problem(text, 429, headers={"Retry-After": str(math.ceil(found))})
        return problem(Said("That is not the passphrase."), 401)
    token, role = found
    response.set_cookie(COOKIE, token, max_age=LASTS, httponly=True, samesite="strict", secure=access.tls)
    return SessionOut(role=role, open=True)


@router.delete("", status_code=204)
def end(request: Request, response: Response) -> None:
    """End the session."""
    if access := _access(request):
        access.end(token_of(request.scope))
    response.delete_cookie(COOKIE)
