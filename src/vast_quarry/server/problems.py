"""Answers that say why not, as problem details with a stable code, and how the document of the API tells of them.

References
----------
RFC 9457, Problem Details for HTTP APIs; RFC 9110, section 15 (status codes).
"""

from __future__ import annotations

from http import HTTPStatus
from typing import Any

from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from vast_quarry.core.words import Said, code_of
from vast_quarry.pipeline.sentence import Sentence, as_data

MEDIA = "application/problem+json"
#: what any address may answer beside what it says itself: from the network without a session, asked by another page, not there, changed meanwhile, does not fit, a mistake of ours, disk full
ANY = (401, 403, 404, 409, 422, 500, 507)


class Wrong(BaseModel):
    """A part of a request that does not fit."""

    loc: list[str | int]
    msg: str


class Problem(BaseModel):
    """Why a request was refused or failed (RFC 9457)."""

    type: str = Field(description="urn:vast-quarry:problem: and the code")
    title: str = Field(description="What the status means")
    status: int
    detail: str = Field(description="What is wrong and what to do, in English")
    code: str = Field(description="Stays when the words change; empty for mistakes that have no sentence of their own")
    said: Sentence | None = Field(None, description="The detail, to be said in another language")
    errors: list[Wrong] = Field(default_factory=list, description="Parts of the request that do not fit")


class ProblemAnswer(JSONResponse):
    """A problem as it is sent."""

    media_type = MEDIA


def problem(
    said: str, status: int, code: str = "", errors: list[Wrong] | None = None, headers: dict[str, str] | None = None
) -> ProblemAnswer:
    """An answer that says why not."""
    code = code or code_of(said)
    body = {
        "type": f"urn:vast-quarry:problem:{code}" if code else "about:blank", "title": HTTPStatus(status).phrase, "status": status,
        "detail": str(said), "code": code, "said": as_data(said) if isinstance(said, Said) else None,
        "errors": [e.model_dump() for e in errors or ()],
    }  # fmt: skip
    return ProblemAnswer(body, status, headers)


def describe(app: FastAPI) -> dict[str, Any]:
    """The document of the API (OpenAPI 3.1), with the problems that each address may answer."""
    if app.openapi_schema is None:
        document = get_openapi(title=app.title, version=app.version, routes=app.routes)
        schemas: dict[str, Any] = document["components"]["schemas"]
        told = Problem.model_json_schema(mode="serialization", ref_template="#/components/schemas/{model}")
        schemas |= {**told.pop("$defs"), "Problem": told}
        for gone in ("HTTPValidationError", "ValidationError"):
            schemas.pop(gone, None)
        content = {MEDIA: {"schema": {"$ref": "#/components/schemas/Problem"}}}
        for path, operations in document["paths"].items():
            for operation in operations.values():
                mine = operation["responses"]
                every = {str(s) for s in ANY if s != 404 or "{" in path} | {s for s in mine if s >= "400"}
                for status in sorted(every):
                    mine[status] = {"description": HTTPStatus(int(status)).phrase, "content": content}
        app.openapi_schema = document
    return app.openapi_schema
