"""Planning in a real browser: laps, marks, a camera that is dragged, a shoot in which a device fails."""

from __future__ import annotations

import json
import urllib.request
from typing import Any

from playwright.sync_api import Page, expect
from tests.browser.conftest import at_rest, quiet


def new_plan(page: Page, address: str) -> int:
    page.goto(address)
    page.get_by_placeholder("Name of the object or place").fill("Something planned")
    page.get_by_role("button", name="New project", exact=True).click()
    page.wait_for_url("**/start")
    page.get_by_role("button", name="Plan a shoot").click()
    page.wait_for_url("**/plan")
    expect(page.locator(".figures")).to_be_visible()
    return int(page.url.split("/projects/")[1].split("/")[0])


def get(address: str, path: str) -> Any:
    with urllib.request.urlopen(f"{address}{path}") as answer:
        return json.loads(answer.read())


def choose(page: Page, label: str, option: str) -> None:
    page.locator(f".row:has([aria-label='{label}']) .el-select__wrapper").first.click()
    page.get_by_role("option", name=option, exact=True).locator("visible=true").first.click()


def fill(page: Page, label: str, value: str) -> None:
    field = page.get_by_label(label, exact=True)
    field.fill(value)
    field.press("Enter")


def test_a_lap_less_covers_less_and_a_shoot_goes_on_after_a_failure(page: Page, address: str) -> None:
    project = new_plan(page, address)
    under = page.locator(".charts b")
    expect(under).to_have_text("0.0 % under three photos")
    fill(page, "Pixels across", "128")
    fill(page, "Pixels down", "96")
    expect(page.locator(".bed.on")).to_contain_text("shots planned")
    page.get_by_role("button", name="Remove lap 3").click()
    page.get_by_role("button", name="Remove lap 2").click()
    expect(under).not_to_have_text("0.0 % under three photos")
    fill(page, "Lap 1, photos", "12")
    expect(page.locator(".bed.on")).to_contain_text("12 shots planned")
    page.get_by_text("Print and files").click()
    with page.expect_download() as download:
        page.get_by_role("link", name="Cameras (glTF)").click()
    assert download.value.path().read_bytes()[:4] == b"glTF"
    printed = page.request.get(f"{address}/api/v1/projects/{project}/plan/shots.pdf")
    assert printed.body()[:5] == b"%PDF-"
    page.get_by_role("button", name="Other equipment, and faults").click()
    choose(page, "Simulate a fault", "the camera, once")
    page.get_by_role("button", name="Shoot it with the practice rig").click()
    line = page.locator("footer")
    expect(line).to_contain_text("The camera reports a fault", timeout=120_000)
    # what was shot before it failed is there already
    assert len(get(address, f"/api/v1/projects/{project}/photos")) == 4
    page.get_by_role("button", name="Resume").click()
    page.get_by_role("button", name="Photos 2").click()
    expect(page.get_by_role("button", name="Photos 2")).to_contain_text("12 included", timeout=120_000)
    listed = get(address, f"/api/v1/projects/{project}/photos")
    assert len(listed) == 12
    assert all(p["planned"] for p in listed)


def test_an_area_is_marked_on_the_stand_in(page: Page, address: str) -> None:
    project = new_plan(page, address)
    everything = get(address, f"/api/v1/projects/{project}/plan/plan.json")["result"]["total"]
    with page.expect_response(lambda r: r.url.endswith("/plan/expected")):  # the last thing that is asked of a change
        choose(page, "What to capture", "a marked area")
    at_rest(page)
    mark = page.get_by_role("button", name="Mark on it")
    expect(mark).to_have_attribute("aria-pressed", "true")
    page.get_by_role("button", name="Front", exact=True).click()
    at_rest(page)
    box = page.locator(".world canvas").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 6, y + 20, steps=4)
    page.mouse.up()
    expect(page.locator(".bed.on")).not_to_contain_text(f"{everything} shots", timeout=20_000)
    saved = get(address, f"/api/v1/projects/{project}/plan")
    assert saved["kind"] == "area"
    assert saved["marked"]
    # its front was marked
    assert all(m[1] < 0 for m in saved["marked"])
    page.get_by_role("button", name="Clear marks").click()
    expect(page.locator(".bed.on")).to_contain_text(f"{everything} shots", timeout=20_000)


def test_a_planned_camera_is_dragged_along_its_ring(page: Page, address: str) -> None:
    project = new_plan(page, address)
    quiet(page)
    at_rest(page)
    page.locator(".bed.on").focus()
    page.keyboard.press("ArrowRight")
    expect(page.locator(".through .cap")).to_contain_text("shot 1 ")
    before = get(address, f"/api/v1/projects/{project}/plan/plan.json")["result"]["stations"][0]["center"]
    at = page.evaluate(
        """c => { const w = window.vqWorld; const p = w.camera.position.clone().fromArray(c).project(w.camera);
        const r = w.canvas.getBoundingClientRect();
        return [r.left + (p.x + 1) / 2 * r.width, r.top + (1 - p.y) / 2 * r.height] }""",
        before,
    )
    page.mouse.move(at[0], at[1])
    page.mouse.down()
    page.mouse.move(at[0] + 60, at[1] - 12, steps=5)
    with page.expect_response(lambda r: r.request.method == "PUT" and r.url.endswith("/plan")):
        page.mouse.up()
    expect(page.get_by_role("button", name="Undo shot changes")).to_be_visible(timeout=20_000)
    saved = get(address, f"/api/v1/projects/{project}/plan")
    number, x, y, z = saved["moved"][0]
    assert number == 0
    assert abs(z - before[2]) < 1e-6
    assert abs((x * x + y * y) ** 0.5 - (before[0] ** 2 + before[1] ** 2) ** 0.5) < 1e-6
    assert abs(x - before[0]) > 0.05


def test_a_camera_by_name_and_a_room(page: Page, address: str) -> None:
    project = new_plan(page, address)
    page.get_by_label("Find a camera by name").fill("phone 1.3")
    page.get_by_role("option", name='phone, 1/1.3" sensor').click()
    expect(page.get_by_label("Sensor width", exact=True)).to_have_value("9.8")
    choose(page, "What to capture", "room, from inside")
    expect(page.get_by_label("Width", exact=True)).to_have_value("5")
    expect(page.get_by_role("button", name="Remove lap 1")).to_have_count(0)
    for _ in range(100):
        plan = get(address, f"/api/v1/projects/{project}/plan/plan.json")
        if plan["request"]["kind"] == "room":
            break
        page.wait_for_timeout(200)
    assert plan["request"]["kind"] == "room"
    assert plan["result"]["roles"]["floor"] > 4
