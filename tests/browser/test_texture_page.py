"""The Texture page: the atlas under what it can be looked at by, and check photos; modes of the mesh."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from tests.browser.conftest import api, drawn, send, wait_drawn


def test_the_texture_by_photo_by_stretch_and_what_it_is_worth(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/texture")
    wait_drawn(page, "mesh", 0.02)
    pictures = page.locator(".flat .atlas img")
    expect(pictures).to_have_count(1)
    for name in ("not seen", "by photo", "stretch"):
        page.get_by_role("radio", name=name, exact=True).click()
        expect(pictures).to_have_count(2)
        page.wait_for_function("() => document.querySelectorAll('.flat .atlas img')[1]?.naturalWidth > 100")
        expect(page.locator(".flat .told")).to_contain_text(
            re.compile(
                {"not seen": "Seen by no photo", "by photo": "as right beside it", "stretch": "twice as long"}[name]
            )
        )
    page.get_by_role("radio", name="check photos", exact=True).click()
    ask = page.get_by_role("button", name="Test the texture on 4 unused photos")
    expect(ask).to_be_visible()
    before = {j["id"] for j in api(address, "/api/v1/jobs")}
    ask.click()
    for _ in range(100):
        if begun := [j for j in api(address, "/api/v1/jobs") if j["id"] not in before]:
            break
        page.wait_for_timeout(100)
    # the job is not waited for here: what it does is tested without a page
    assert [j["until"] for j in begun] == ["texture"]
    send(address, f"/api/v1/jobs/{begun[0]['id']}/cancel", "POST")
    settings = next(x["settings"] for x in api(address, f"/api/v1/projects/{built}/layers") if x["layer"] == "texture")
    assert next(s for s in settings if s["name"] == "kept_back")["value"] == 4
    send(address, f"/api/v1/projects/{built}/layers/texture/settings/kept_back", "DELETE")


def test_a_mesh_by_facing_and_from_both_sides(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/texture")
    wait_drawn(page, "mesh", 0.02)
    for mode in ("facing", "both sides"):
        page.get_by_role("button", name=mode, exact=True).click()
        expect(page.get_by_role("button", name=mode, exact=True)).to_have_attribute("aria-pressed", "true")
        assert drawn(page, "mesh") > 0.02


def test_a_photo_is_thrown_onto_the_mesh_where_it_sees_it(page: Page, address: str, built: int) -> None:
    """Each photo shows on its own side only: what one side of the world is painted with differs from the other's."""
    page.goto(f"{address}/projects/{built}/surface")
    wait_drawn(page, "mesh", 0.02)
    page.get_by_role("button", name="photo", exact=True).click()
    film = page.locator(".thrown [role=option]")
    expect(film.first).to_be_visible()
    source = """(before) => { let t = null
        window.vqWorld.parts.mesh.traverse((o) => { t ??= o.material?.uniforms?.photo?.value?.image?.src ?? null })
        return t !== before && t }"""
    before, pictures = None, []
    for k in (0, 3):
        name = film.nth(k).get_attribute("title")
        film.nth(k).click()
        expect(page.locator(".legend")).to_contain_text(f"{name}, thrown onto the mesh")
        before = page.wait_for_function(source, arg=before).json_value()
        pictures.append(page.evaluate("() => window.vqWorld.picture()"))
    assert pictures[0] != pictures[1]
    page.get_by_role("button", name="shaded", exact=True).click()
    expect(page.locator(".thrown")).to_have_count(0)
