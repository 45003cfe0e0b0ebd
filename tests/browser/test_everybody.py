"""Everybody's hands and tongues: accessibility checked by axe-core on each main screen, and the second language."""

from __future__ import annotations

import json
from typing import Any

import pytest
from playwright.sync_api import Page, expect
from tests.browser.conftest import WEB, quiet, send, settled

#: screens that are looked at by daylight, and of them those that have a tone of their own at dusk
LAYERS = ("plan", "photos", "masks", "cameras", "points", "surface", "texture", "finish", "dispatch")
AT_DUSK = ("plan", "photos", "cameras", "texture")
#: Web Content Accessibility Guidelines 2.2, levels A and AA (W3C Recommendation), and axe-core's good practice
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
#: the library's field that completes names points to its list before that is there (aria-controls)
NOT_OURS = [[".el-autocomplete"]]


def violations(page: Page) -> list[str]:
    """What axe-core finds on the page, a line for each rule."""
    page.evaluate((WEB / "node_modules" / "axe-core" / "axe.min.js").read_text())
    found: dict[str, Any] = page.evaluate(
        "([rules, not]) => axe.run({ include: [['html']], exclude: not }, { runOnly: rules })", [RULES, NOT_OURS]
    )
    return [f"{v['id']}: {[n['html'][:160] for n in v['nodes'][:3]]}" for v in found["violations"]]


@pytest.mark.parametrize("dusk", [False, True])
def test_every_main_screen_passes_axe(page: Page, address: str, built: int, dusk: bool) -> None:
    page.goto(address)
    page.evaluate("dusk => localStorage.setItem('vq-dusk', String(dusk))", dusk)
    try:
        wrong = []
        for where in ("", *(f"projects/{built}/{layer}" for layer in (AT_DUSK if dusk else LAYERS))):
            page.goto(f"{address}/{where}")
            page.reload()
            page.locator("footer").wait_for()
            quiet(page)
            settled(page)  # what opens with a movement is looked at when it stands
            wrong += [f"{where}: {v}" for v in violations(page)]
        page.get_by_role("button", name="Jobs").click()
        expect(page.get_by_role("heading", name="Jobs")).to_be_visible()
        wrong += [f"jobs: {v}" for v in violations(page)]
        page.keyboard.press("Escape")
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_be_visible()
        settled(page)
        wrong += [f"keys: {v}" for v in violations(page)]
        assert wrong == []
    finally:
        page.evaluate("() => localStorage.removeItem('vq-dusk')")


def test_the_page_speaks_german(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/cameras")
    try:
        page.get_by_label("Language").select_option("de")
        expect(page.locator("html")).to_have_attribute("lang", "de")
        expect(page.locator(".bed", has_text="Oberfläche")).to_contain_text("Dreiecke")
        # a sentence of the server with its numbers, from the version on disk
        expect(page.locator(".card").first).to_contain_text("Das Objektiv hat eine Brennweite von")
        expect(page.get_by_text("Merkmale je Foto, höchstens")).to_be_visible()
        # an error, with what the user typed in it
        page.keyboard.press("2")
        page.get_by_role("button", name="Nach Pfad …").click()
        page.get_by_placeholder("oder ein Ordner auf diesem Rechner").fill("/no/such/folder")
        page.get_by_role("button", name="Einlesen").click()
        expect(page.get_by_text("Es gibt keinen Ordner /no/such/folder. Den Pfad prüfen.")).to_be_visible()
        # it is kept for the next visit, and numbers are written as the language does
        page.goto(f"{address}/projects/{built}/plan")
        expect(page.locator("dl.figures")).to_contain_text(",")
        expect(page.get_by_role("button", name="Mit dem Übungsstand aufnehmen")).to_be_visible()
        # nothing English is left of what the catalogues know
        words = json.loads((WEB.parent / "src" / "vast_quarry" / "words" / "de.json").read_text("utf-8"))
        same = {k for k, v in words.items() if k == v}
        shown = page.locator("body").inner_text().splitlines()
        assert [line for line in shown if line in words and line not in same] == []
    finally:
        page.evaluate("() => localStorage.removeItem('vq-language')")


def test_the_printed_sheet_is_in_the_language_of_the_page(page: Page, address: str) -> None:
    project = send(address, "/api/v1/projects", "POST", {"name": "Gedruckt"})["id"]
    try:
        page.goto(f"{address}/projects/{project}/plan")
        page.get_by_label("Language").select_option("de")
        page.get_by_text("Drucken und Dateien").click()
        links = [a.get_attribute("href") or "" for a in page.locator("a[href*='.pdf']").all()]
        assert len(links) == 3
        assert all(link.endswith("language=de") for link in links)
        assert page.request.get(address + links[0]).body()[:5] == b"%PDF-"
    finally:
        page.evaluate("() => localStorage.removeItem('vq-language')")


@pytest.mark.parametrize(
    "name", ["W" * 120, "\u05d0\u05d1\u05df \u05d3\u05e8\u05da " * 12, "\u0627\u0644\u062d\u062c\u0631 <b>x</b>"]
)
@pytest.mark.parametrize("size", [(640, 480)])
def test_long_and_right_to_left_names_break_nothing(page: Page, address: str, name: str, size: tuple[int, int]) -> None:
    project = send(address, "/api/v1/projects", "POST", {"name": name[:120]})["id"]
    page.set_viewport_size({"width": size[0], "height": size[1]})
    try:
        for where in ("", f"projects/{project}/plan", f"projects/{project}/photos"):
            page.goto(f"{address}/{where}")
            page.locator("footer").wait_for()
            wide = page.evaluate("() => document.documentElement.scrollWidth - window.innerWidth")
            assert wide <= 0, where
        expect(page.get_by_role("heading", level=1)).to_have_text(name[:120].strip())
    finally:
        page.set_viewport_size({"width": 1280, "height": 800})
        send(address, f"/api/v1/projects/{project}", "DELETE")
