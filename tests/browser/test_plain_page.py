"""A plain subject in the page: from photos to a mesh, painted by what it rests on."""

from __future__ import annotations

import re
import time

from playwright.sync_api import Page, expect
from tests.browser.conftest import api, bring, drawn, send, wait_drawn
from tests.conftest import SMALL, RigSet


def test_a_plain_subject_from_photos_to_a_mesh_painted_by_what_it_rests_on(
    page: Page, address: str, plain_set: RigSet
) -> None:
    number = send(address, "/api/v1/projects", "POST", {"name": "Iron hound", "grade": "rough"})["id"]
    where = f"/api/v1/projects/{number}"
    bring(address, number, plain_set.photos)
    for layer, values in SMALL.items():
        send(address, f"{where}/layers/{layer}/settings", "PUT", values)
    page.goto(f"{address}/projects/{number}/surface")
    page.locator("aside").get_by_role("button", name="Run Surface").click()
    deadline = time.monotonic() + 400
    while time.monotonic() < deadline:
        jobs = [j for j in api(address, "/api/v1/jobs") if j["until"] == "surface" and j["project_id"] == number]
        if jobs and jobs[0]["state"] not in ("queued", "running"):
            break
        page.wait_for_timeout(1000)
    assert jobs[0]["state"] == "done", jobs[0]["message"]
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
