"""A plain subject in the page: a mesh, painted by what it rests on."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect
from tests.browser.conftest import Server, api, drawn, send, wait_drawn

from vast_quarry.server.services.archives import pack_project, unpack_project


def test_a_plain_subject_is_painted_by_what_it_rests_on(
    page: Page, server: Server, plain_data: Path, tmp_path: Path
) -> None:
    """A project that came as an archive, with a plain subject that was built."""
    address = server.url
    pack_project(plain_data, 1, tmp_path / "hound.zip")
    number, _ = unpack_project(server.data, tmp_path / "hound.zip")
    where = f"/api/v1/projects/{number}"
    page.goto(f"{address}/projects/{number}/surface")
    wait_drawn(page, "mesh", 0.02)
    plain = page.evaluate("() => window.vqWorld.picture()")
    page.get_by_role("button", name="inferred", exact=True).click()
    expect(page.locator(".legend")).to_contain_text(re.compile(r"filled in where it is plain \([0-9.]+ %\)"))
    assert drawn(page, "mesh") > 0.02
    assert page.evaluate("() => window.vqWorld.picture()") != plain
    # which body is meant can be chosen
    settings = next(x["settings"] for x in api(address, f"{where}/layers") if x["layer"] == "cameras")
    assert next(s for s in settings if s["name"] == "subject")["value"] == 1
    send(address, where, "DELETE")
