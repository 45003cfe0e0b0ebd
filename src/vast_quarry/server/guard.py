"""Who may ask: pages of this application in a browser on this machine, and programs on it; nobody else's pages.

A page from elsewhere can send requests to this machine from within the user's browser. It cannot set ``Host`` and
``Origin`` as it likes: a name that was turned to point here (DNS rebinding) shows in the first, another page's form or
script in the second.

References
----------
RFC 6454 (origins); Fetch Metadata Request Headers (W3C); Content Security Policy Level 3 (W3C).
"""

from __future__ import annotations

from ipaddress import ip_address
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from vast_quarry.core.words import Said
from vast_quarry.server.access import names_here
from vast_quarry.server.problems import problem

#: names this machine has for itself
OWN_NAMES = frozenset({"127.0.0.1", "localhost", "::1"})

#: what the page may load: its own files, pictures it makes itself, and the compiled mesh decoder
POLICY = (
    "default-src 'self'; script-src 'self' 'wasm-unsafe-eval'; style-src 'self' 'unsafe-inline'; "
    "img-src 'self' data: blob:; connect-src 'self' data: blob:; worker-src 'self' blob:; font-src 'self' data:; "
    "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
}


def _is_own(name: str, network: bool) -> bool:
    """Whether a name is one of this machine. On a network it has its addresses too, which cannot be turned to point elsewhere."""
    if name in OWN_NAMES:
        return True
    if not network:
        return False
    try:
        ip_address(name)
    except ValueError:
        return name in names_here()
    return True


def foreign(headers: Headers, path: str, network: bool = False) -> Said | None:
    """Why a request is refused; nothing when it is not."""
    host = headers.get("host", "")
    try:
        name = urlsplit(f"//{host}").hostname or ""
    except ValueError:
        name = ""
    if not _is_own(name, network):
        return Said("This address is answered under the names of this machine only.")
    origin = headers.get("origin")
    if origin is not None and origin not in (f"http://{host}", f"https://{host}"):
        return Said("Requests of other pages are not answered.")
    # pictures and the like that another page embeds come without Origin
    if path.startswith("/api/") and headers.get("sec-fetch-site", "none") not in ("none", "same-origin"):
        return Said("Requests of other pages are not answered.")
    return None


class Guard:
    """Refuses what comes from elsewhere, and tells browsers what a page of this application may do."""

    def __init__(self, app: ASGIApp, network: bool = False) -> None:
        self.app, self.network = app, network

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass a request on, or refuse it."""
        if scope["type"] != "http":
            if scope["type"] == "lifespan":
                await self.app(scope, receive, send)
            return
        why, status = foreign(Headers(scope=scope), scope["path"], self.network), 403
        if not why and "\0" in scope["path"]:
            why, status = Said("There is no such address."), 404

        async def guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                MutableHeaders(scope=message).update(HEADERS)
            await send(message)

        answer: ASGIApp = problem(why, status) if why else self.app
        await answer(scope, receive, guarded)
