"""The web application."""

from __future__ import annotations

import logging
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import FileResponse
from pydantic import BaseModel
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm.exc import StaleDataError
from starlette.datastructures import MutableHeaders
from starlette.exceptions import HTTPException
from starlette.middleware.gzip import GZipMiddleware
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from vast_quarry import __version__
from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import Said, say
from vast_quarry.server.access import Access, Doorkeeper
from vast_quarry.server.database import open_database
from vast_quarry.server.guard import Guard
from vast_quarry.server.log import log_file
from vast_quarry.server.problems import ProblemAnswer, Wrong, describe, problem
from vast_quarry.server.routers import (
    cameras,
    clearing,
    dispatch,
    drafts,
    jobs,
    layers,
    masks,
    photos,
    plan,
    projects,
    removed,
    session,
    tones,
    uploads,
    videos,
)
from vast_quarry.server.services.ahead import Ahead
from vast_quarry.server.services.bringing import disk_said
from vast_quarry.server.services.folders import Conflict, NotFound

log = logging.getLogger(__name__)

#: where the built page is: shipped in the package, or in the working copy
PAGES = (Path(__file__).parent / "page", Path(__file__).parents[3] / "web" / "dist")


#: what is compressed already, or would take longer to compress than to send to the same machine
LEFT_ALONE = (
    "/thumb",
    "/full",
    "/tile",
    "/mesh",
    "/cloud",
    "/nearby",
    "/atlas",
    "/picture",
    "/export",
    "/key",
    "/depth",
    "/through",
    "/parcel",
    "/poster",
    "/events",
)


class TextZip(GZipMiddleware):
    """Compresses text, and leaves pictures and meshes as they are."""

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass a request on."""
        alone = scope["type"] == "http" and scope["path"].endswith(LEFT_ALONE)
        await (self.app if alone else super().__call__)(scope, receive, send)


#: what is asked by POST only because the question is long
QUESTIONS = {("points", "select"), ("points", "find")}


class NoteChanges:
    """Counts the changes of each part of each project, so that other pages that show it hear of them.

    Parts are called as in addresses: ``photos``, ``layers``, ``plan`` ..., and ``project`` for name and grade.
    """

    def __init__(self, app: ASGIApp, revisions: dict[str, dict[str, int]]) -> None:
        self.app, self.revisions = app, revisions

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass a request on; one that changes something and goes well is counted."""
        parts = scope["path"].split("/") if scope["type"] == "http" and scope["method"] != "GET" else []
        if parts[1:4] != ["api", "v1", "projects"] or len(parts) < 5 or tuple(parts[5:7]) in QUESTIONS:
            await self.app(scope, receive, send)
            return

        async def noted(message: Message) -> None:
            if message["type"] == "http.response.start" and message["status"] < 400:
                part = parts[5] if len(parts) > 5 else "project"
                if part == "history":
                    part = {"finish": "draft"}.get(parts[6], parts[6])
                mine = self.revisions.setdefault(parts[4], {})
                mine[part] = mine.get(part, 0) + 1
                # who changed it hears of it at once, and need not ask again when all others are told
                MutableHeaders(scope=message)["X-Changed"] = f"{part} {mine[part]}"
            await send(message)

        await self.app(scope, receive, noted)


class Health(BaseModel):
    """That the server lives."""

    ok: bool
    version: str
    #: where the projects are kept
    folder: str


def make_app(data: Path, access: Access | None = None) -> FastAPI:
    """The application over a data folder; with ``access`` it is open to the network for those who may."""
    # pages about the API would load their scripts from elsewhere; docs/openapi.json tells the same
    app = FastAPI(
        title="Vast Quarry", version=__version__, openapi_url="/api/v1/openapi.json", docs_url=None, redoc_url=None
    )
    app.openapi = lambda: describe(app)  # type: ignore[method-assign]
    app.state.data = data
    app.state.engine = open_database(data)
    app.state.ahead = Ahead()
    app.state.revisions = {}
    app.state.teller = jobs.Teller(app)
    app.add_middleware(NoteChanges, revisions=app.state.revisions)
    app.add_middleware(TextZip, minimum_size=2000, compresslevel=3)
    app.state.access = access
    if access is not None:
        app.add_middleware(Doorkeeper, access=access)
    app.add_middleware(Guard, network=access is not None)
    for module in (
        projects,
        removed,
        session,
        photos,
        masks,
        layers,
        clearing,
        drafts,
        plan,
        dispatch,
        jobs,
        cameras,
        tones,
        videos,
        uploads,
    ):
        app.include_router(module.router)

    @app.get("/api/v1/health", tags=["health"])
    def health() -> Health:
        """That the server lives."""
        return Health(ok=True, version=__version__, folder=str(data.resolve()))

    @app.exception_handler(PlainError)
    def plain(request: Request, error: PlainError) -> ProblemAnswer:
        """A failure in the user's words."""
        status = 404 if isinstance(error, NotFound) else 409 if isinstance(error, Conflict) else 422
        return problem(error.said, status)

    @app.exception_handler(RequestValidationError)
    def unfit(request: Request, error: RequestValidationError) -> ProblemAnswer:
        """A request whose parts do not fit: each is named."""
        wrong = [Wrong(loc=list(e["loc"]), msg=str(e["msg"])) for e in error.errors()]
        first = f"{wrong[0].loc[-1] if wrong[0].loc else ''}: {wrong[0].msg}" if wrong else ""
        return problem(first or "The request does not fit.", 422, "request-does-not-fit", wrong)

    @app.exception_handler(HTTPException)
    def refused(request: Request, error: HTTPException) -> ProblemAnswer:
        """No such address, or one that is not asked so."""
        text = "There is no such address." if error.status_code == 404 else str(error.detail)
        return problem(Said(text), error.status_code, headers=dict(error.headers or {}))

    @app.exception_handler(StaleDataError)
    def stale(request: Request, error: StaleDataError) -> ProblemAnswer:
        """Two changed the same thing at once."""
        text = Said(
            "This was changed from somewhere else at the same moment, so nothing was done. Look at it again and repeat it."
        )
        return problem(text, 409)

    @app.exception_handler(OperationalError)
    def database(request: Request, error: OperationalError) -> ProblemAnswer:
        """The database cannot be written or read just now."""
        log.error("the database: %s", error.orig)
        text = say(
            "What you did could not be saved ({why}). Look whether the disk is full, and try again.", why=error.orig
        )
        return problem(text, 507)

    @app.exception_handler(OverflowError)
    def too_large(request: Request, error: OverflowError) -> ProblemAnswer:
        """A number that nothing has."""
        return problem(Said("A number in this request is larger than any that is used here."), 422)

    @app.exception_handler(Exception)
    def broken(request: Request, error: Exception) -> ProblemAnswer:
        """A mistake of ours; the server's log has the rest of it."""
        log.error("%s %s failed", request.method, request.url.path, exc_info=error)
        text = say(
            "Something went wrong inside the program ({what}). More about it is in {file}.",
            what=type(error).__name__,
            file=log_file(data, "server"),
        )
        return problem(text, 500)

    @app.exception_handler(OSError)
    def disk(request: Request, error: OSError) -> ProblemAnswer:
        """A full disk, or one that cannot be written."""
        return problem(disk_said(error), 507)

    page = next((p for p in PAGES if (p / "index.html").exists()), None)

    @app.get("/{path:path}", include_in_schema=False)
    def static(path: str) -> FileResponse:
        """The page and its files; any other address is the page's own."""
        if page is None:
            raise NotFound("The page has not been built.", "Run make web.")
        if path.startswith("api/"):
            raise NotFound("There is no such address.")
        try:
            file = (page / path).resolve()
            inside = page.resolve() in file.parents and file.is_file()
        except (OSError, ValueError, RuntimeError):  # no name that a file can have
            file, inside = page, False
        headers = {
            "Cache-Control": "public, max-age=31536000, immutable" if "/assets/" in str(file) and inside else "no-cache"
        }
        return FileResponse(file if inside else page / "index.html", headers=headers)

    return app
