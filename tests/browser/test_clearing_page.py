"""The Points page: points chosen by pointer and by keys, deleted, taken back, and a version made of what is left."""

from __future__ import annotations

import re

from playwright.sync_api import Locator, Page, expect
from tests.browser.conftest import api


def chosen(page: Page) -> int:
    """How many points are chosen, as the page says."""
    status = page.locator(".tools [role=status]")
    expect(status).to_contain_text("chosen of")
    return int(re.sub(r"\D", "", status.inner_text().split(" point")[0]))


def drag_over(page: Page, surface: Locator, x0: float, y0: float, x1: float, y1: float) -> None:
    box = surface.bounding_box()
    assert box
    page.mouse.move(box["x"] + x0 * box["width"], box["y"] + y0 * box["height"])
    page.mouse.down()
    page.mouse.move(box["x"] + x1 * box["width"], box["y"] + y1 * box["height"], steps=3)
    page.mouse.up()


def settled(page: Page) -> None:
    """Until the world has the room that its tools leave it: what was drawn before would be drawn over another view."""
    page.wait_for_function(
        """() => { const c = vqWorld.canvas, now = [c.width, c.height, c.clientWidth, c.clientHeight].join(), w = window
        if (w.vqRoom?.now !== now) w.vqRoom = { now, since: performance.now() }
        return performance.now() - w.vqRoom.since > 700 }"""
    )


def test_points_are_chosen_deleted_taken_back_and_kept(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/points")
    page.get_by_role("button", name="Clear points away").click()
    surface = page.locator("svg.draw")
    expect(surface).to_be_focused()
    settled(page)
    drag_over(page, surface, 0.2, 0.05, 0.8, 0.4)
    expect(page.locator(".tools [role=status]")).not_to_contain_text(re.compile("^0 "))
    first = chosen(page)
    states = "() => { const s = vqWorld.clouds.points.geometry.getAttribute('pointState').array; return [0, 1, 2].map((v) => s.filter((x) => x === v).length) }"
    assert page.evaluate(states)[1] == first, "all points of this cloud are drawn"
    # the same again, intersected: nothing changes; a second choice with Alt held takes away
    page.get_by_role("radio", name="Intersect").click()
    drag_over(page, surface, 0.2, 0.05, 0.8, 0.4)
    assert chosen(page) == first
    page.keyboard.down("Alt")
    drag_over(page, surface, 0.2, 0.05, 0.5, 0.4)
    page.keyboard.up("Alt")
    page.wait_for_function(f"() => !document.querySelector('.tools [role=status]').innerText.startsWith('{first:,} ')")
    part = chosen(page)
    assert 0 < part < first
    page.keyboard.press("Control+z")
    page.wait_for_function(f"() => document.querySelector('.tools [role=status]').innerText.startsWith('{first:,} ')")
    page.keyboard.press("Delete")
    expect(page.get_by_role("button", name="Give all up")).to_be_visible()
    page.wait_for_function(f"() => ({states})()[2] === {first}")
    page.keyboard.press("Control+z")
    page.wait_for_function(f"() => ({states})()[2] === 0")
    page.get_by_role("button", name="Redo").click()
    page.wait_for_function(f"() => ({states})()[2] === {first}")
    # by keys: a rectangle from the middle, outwards
    surface.focus()
    page.get_by_role("radio", name="Replace").click()
    surface.focus()
    page.keyboard.press("Space")
    for key in ("Shift+ArrowRight", "Shift+ArrowDown") * 3:
        page.keyboard.press(key)
    page.keyboard.press("Space")
    expect(page.locator(".tools [role=status]")).not_to_contain_text(re.compile("^0 "))
    page.get_by_role("button", name="Save as a version").click()
    expect(page.get_by_text("Points 2").first).to_be_visible(timeout=60_000)
    layer = next(x for x in api(address, f"/api/v1/projects/{built}/layers") if x["layer"] == "points")
    assert layer["versions"][-1]["figures"]["cleared"] == first
    # and back, for whoever looks at this project next
    page.get_by_role("button", name=re.compile("Bring back")).click()
    expect(page.locator(".tools [role=status]")).to_contain_text("0 points chosen", timeout=60_000)
    page.wait_for_function(f"() => ({states})()[2] === 0 && !document.body.innerText.includes('Bring back')")


def test_a_brush_stops_at_what_is_in_front(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/points")
    page.get_by_role("button", name="Clear points away").click()
    page.get_by_role("button", name="Brush", exact=True).click()
    front = page.get_by_role("button", name="Only in front")
    expect(front).to_have_attribute("aria-pressed", "true")
    counts = []
    for _ in range(2):
        settled(page)
        with page.expect_response(lambda r: "/points/select" in r.url) as told:
            drag_over(page, page.locator("svg.draw"), 0.46, 0.45, 0.54, 0.55)
        count = int.from_bytes(told.value.body()[:4], "little")
        expect(page.locator(".tools [role=status]")).to_contain_text(re.compile(f"^{count:,} point"))
        counts.append(count)
        front.click()
    assert 0 < counts[0] < 0.8 * counts[1]


def test_more_of_a_large_cloud_is_shown_where_one_looks(page: Page, address: str, built: int) -> None:
    """The page is given few of the points, as of a cloud that is too large for it: what is missing comes while the view rests."""
    few = "**/layers/points/cloud?*"
    page.route(few, lambda route: route.continue_(url=re.sub(r"budget=\d+", "budget=500", route.request.url)))
    try:
        with page.expect_response(lambda r: "/points/nearby" in r.url) as more:
            page.goto(f"{address}/projects/{built}/points")
        count = int.from_bytes(more.value.body()[:4], "little")
        assert count > 2000
        page.wait_for_function(f"() => window.vqWorld.clouds.near?.geometry.attributes.position.count === {count}")
    finally:
        page.unroute(few)
