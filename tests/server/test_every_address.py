"""Every address of the contract, asked with what fits it and with what does not: no mistake of ours ever shows, and every answer
is one that the document tells of.

The requests are made up by schemathesis from the OpenAPI document, a bounded number for each address.
"""

from __future__ import annotations

import io
import os
from collections.abc import Iterator

import pytest
import schemathesis
from fastapi import FastAPI
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, Phase, settings
from PIL import Image
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from vast_quarry.server.app import make_app

#: requests for each address; set it higher to search longer
REQUESTS = int(os.environ.get("REQUESTS", "2"))
#: the answer is one that the document tells of: its status, its media type, and what is in it
AS_DOCUMENTED = [status_code_conformance, content_type_conformance, response_schema_conformance]
#: streams without an end
ENDLESS = "^/api/v1/jobs/events$"


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[FastAPI]:
    """An application with a project, a photo and nothing computed."""
    app = make_app(tmp_path_factory.mktemp("every") / "data")
    client = TestClient(app, "http://127.0.0.1")
    client.post("/api/v1/projects", json={"name": "Well-head"})
    out = io.BytesIO()
    Image.new("RGB", (96, 72), (90, 120, 60)).save(out, "PNG")
    client.post("/api/v1/projects/1/photos", files=[("files", ("a.png", out.getvalue()))])
    yield app
    app.state.engine.dispose()


@pytest.fixture(scope="module")
def contract(served: FastAPI) -> schemathesis.BaseSchema:
    return schemathesis.openapi.from_asgi("/api/v1/openapi.json", served, headers={"Host": "127.0.0.1"})


schema = schemathesis.pytest.from_fixture("contract").exclude(path_regex=ENDLESS)


@schema.parametrize()
@settings(
    max_examples=REQUESTS, derandomize=True, deadline=None, database=None, phases=[Phase.explicit, Phase.generate],
    suppress_health_check=list(HealthCheck),
)  # fmt: skip
def test_no_request_finds_a_mistake_of_ours(case: schemathesis.Case) -> None:
    for name, usual in (("project_id", 1), ("layer", "cameras")):
        # most numbers name no project, and would find out little
        if name in (case.path_parameters or {}) and len(str(case.path_parameters[name])) % 2:
            case.path_parameters[name] = usual
    answer = case.call(headers={"Host": "127.0.0.1"})
    assert answer.status_code < 500, f"{answer.status_code} {answer.text[:300]}"
    case.validate_response(answer, checks=AS_DOCUMENTED)
