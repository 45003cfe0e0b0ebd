"""Who may do what when the application is opened to the network: owners everything, viewers look.

Without ``--lan`` nobody else reaches it at all (:mod:`.guard`). With it, whoever comes from another machine says a passphrase
or a pairing code once and gets a session; this machine's own user needs none.

References
----------
RFC 9106 (Argon2id, by argon2-cffi with its defaults); RFC 6265bis (cookies: HttpOnly, SameSite, Secure); OWASP Authentication
Cheat Sheet (limiting tries).
"""

from __future__ import annotations

import ipaddress
import secrets
import socket
import threading
import time
from dataclasses import dataclass, field
from http.cookies import CookieError, SimpleCookie
from typing import Literal

from argon2 import PasswordHasher
from argon2.exceptions import VerificationError
from starlette.datastructures import Headers
from starlette.types import ASGIApp, Receive, Scope, Send

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import Said
from vast_quarry.server.problems import problem

Role = Literal["owner", "viewer"]
COOKIE = "vq-session"
#: a session lasts so long (s)
LASTS = 12 * 3600
#: wrong tries of one address, and of all together, before they have to wait; and how long that is (s)
TRIES, TRIES_OF_ALL, WAIT = 5, 30, 60.0
SHORTEST = 8
#: what a viewer may ask by POST: questions that change nothing
QUESTIONS = ("/points/select", "/points/find", "/points/nearby", "/draft/selected", "/choose", "/session")
#: addresses that are answered before anybody has said who they are
OPEN = ("/api/v1/session",)


def pairing_code() -> str:
    """Eight digits to be typed in at the other machine."""
    digits = f"{secrets.randbelow(10**8):08d}"
    return f"{digits[:4]}-{digits[4:]}"


@dataclass
class _Tries:
    """Wrong tries, and until when the next has to wait."""

    wrong: int = 0
    until: float = 0.0


@dataclass
class Access:
    """The passphrases of an application that is open to the network, as hashes, and the sessions that were begun.

    Parameters
    ----------
    hashes : dict of str to str
        Hash of the passphrase of each role.
    tls : bool
        Whether it is served encrypted: then cookies travel only so.
    """

    hashes: dict[Role, str]
    tls: bool = False
    sessions: dict[str, tuple[Role, float]] = field(default_factory=dict)
    _tries: dict[str, _Tries] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @classmethod
    def of(cls, passphrases: dict[Role, str], tls: bool = False) -> Access:
        """From passphrases, which are not kept.

        Raises
        ------
        PlainError
            When one is too short, or both are the same.
        """
        if min(map(len, passphrases.values())) < SHORTEST:
            raise PlainError(f"A passphrase has at least {SHORTEST} letters.", "Choose a longer one.")
        if len(set(passphrases.values())) < len(passphrases):
            raise PlainError("The passphrases of owners and viewers are the same.", "Choose two.")
        hasher = PasswordHasher()
        return cls({role: hasher.hash(text) for role, text in passphrases.items()}, tls)

    def begin(self, passphrase: str, address: str) -> tuple[str, Role] | float:
        """A new session for a passphrase; else how long to wait before the next try (s), 0 when there is no need yet."""
        with self._lock:
            now = time.monotonic()
            mine, every = self._tries.setdefault(address, _Tries()), self._tries.setdefault("", _Tries())
            left = max(mine.until, every.until) - now
            if left > 0:
                return left
        role = self._role_of(passphrase)
        with self._lock:
            if role is not None:
                self._tries.pop(address, None)
                token = secrets.token_urlsafe(32)
                self.sessions = {k: v for k, v in self.sessions.items() if v[1] > time.time()}
                self.sessions[token] = (role, time.time() + LASTS)
                return token, role
            for tries, most in ((mine, TRIES), (every, TRIES_OF_ALL)):
                tries.wrong += 1
                if tries.wrong >= most:
                    tries.wrong, tries.until = 0, time.monotonic() + WAIT
            return max(0.0, max(mine.until, every.until) - time.monotonic())

    def _role_of(self, passphrase: str) -> Role | None:
        hasher = PasswordHasher()
        for role, known in self.hashes.items():
            try:
                hasher.verify(known, passphrase)
                return role
            except VerificationError:
                continue
        return None

    def role(self, scope: Scope) -> Role | None:
        """Who asks: this machine's own user is an owner; others are what their session says."""
        client = scope.get("client")
        if client is not None and _is_here(client[0]):
            return "owner"
        token = token_of(scope)
        role, until = self.sessions.get(token, (None, 0.0))
        return role if until > time.time() else None

    def end(self, token: str) -> None:
        """End a session."""
        self.sessions.pop(token, None)


def token_of(scope: Scope) -> str:
    """The session that a request says it is of; empty when it says none."""
    try:
        cookie = SimpleCookie(Headers(scope=scope).get("cookie", ""))
    except CookieError:
        return ""
    return cookie[COOKIE].value if COOKIE in cookie else ""


def _is_here(address: str) -> bool:
    try:
        return ipaddress.ip_address(address).is_loopback
    except ValueError:  # a socket of this machine, or a test
        return True


def names_here() -> frozenset[str]:
    """What this machine is called on its network."""
    name = socket.gethostname().lower()
    return frozenset({name, f"{name.split('.')[0]}.local"})


def addresses_here(host: str) -> list[str]:
    """Addresses under which other machines reach this one, as they are written in a browser; ``host`` is what it listens at."""
    if host not in ("0.0.0.0", "::"):
        return [f"[{host}]" if ":" in host else host]
    found = []
    ways = [(socket.AF_INET, "192.0.2.1", "{}")]
    if host == "::":
        ways.append((socket.AF_INET6, "2001:db8::1", "[{}]"))
    for family, target, written in ways:
        # nothing is sent: the system only tells from which of its addresses it would
        with socket.socket(family, socket.SOCK_DGRAM) as probe:
            try:
                probe.connect((target, 9))
            except OSError:
                continue
            address = probe.getsockname()[0]
            if not _is_here(address):
                found.append(written.format(address))
    return found


class Doorkeeper:
    """Lets requests through by role: without one nothing of the API is answered, and viewers change nothing."""

    def __init__(self, app: ASGIApp, access: Access) -> None:
        self.app, self.access = app, access

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass a request on, or refuse it."""
        if scope["type"] != "http" or not scope["path"].startswith("/api/") or scope["path"] in OPEN:
            await self.app(scope, receive, send)
            return
        role = self.access.role(scope)
        answer: ASGIApp = self.app
        if role is None:
            answer = problem(Said("Say the passphrase or the pairing code first."), 401)
        elif (
            role == "viewer"
            and scope["method"] not in ("GET", "HEAD", "OPTIONS")
            and not scope["path"].endswith(QUESTIONS)
        ):
            answer = problem(Said("You may look at everything here, and change nothing."), 403)
        await answer(scope, receive, send)
