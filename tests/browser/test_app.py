"""The application in a real browser: what a person does, from photos to a downloaded model."""

from __future__ import annotations

import json
import subprocess
import zipfile
from pathlib import Path

from playwright.sync_api import Locator, Page, expect
from tests.browser.conftest import WEB, wait_drawn
from tests.conftest import RigSet


def tab_to(page: Page, target: Locator, most: int = 150) -> None:
    """Walk by Tab until something has the focus.

    Fast keys outrun a page that is still being built: wait for the thing first.
    """
    expect(target).to_have_count(1)
    for _ in range(most):
        if target.count() == 1 and target.evaluate("e => e === document.activeElement"):
            return
        page.keyboard.press("Tab")
    raise AssertionError(f"no way by Tab to {target}")


def test_by_keyboard_alone_from_a_new_project_to_a_saved_model(
    page: Page, address: str, ring_set: RigSet, tmp_path: Path
) -> None:
    page.goto(address)
    tab_to(page, page.get_by_placeholder("Name of the object or place"))
    page.keyboard.type("From photos")
    page.keyboard.press("Enter")
    page.wait_for_url("**/start")
    page.keyboard.press("2")
    page.wait_for_url("**/photos")
    tab_to(page, page.get_by_placeholder("or a folder on this machine"))
    page.keyboard.type(str(ring_set.photos))
    tab_to(page, page.get_by_role("button", name="Bring in", exact=True))
    page.keyboard.press("Enter")
    expect(page.get_by_text("16 included, 0 left out")).to_be_visible()
    expect(page.locator(".ph img").first).to_be_visible()
    # photos by arrow keys: shift picks a range, ctrl A all of them
    tab_to(page, page.get_by_role("listbox", name="Photos"))
    page.keyboard.press("Home")
    page.keyboard.press("Shift+ArrowRight")
    expect(page.get_by_role("toolbar", name="2 photos picked")).to_be_visible()
    page.keyboard.press("Control+a")
    expect(page.get_by_role("toolbar", name="16 photos picked")).to_be_visible()
    page.keyboard.press("Escape")
    # everything at grade Rough, from the Texture layer
    page.keyboard.press("7")
    tab_to(page, page.get_by_role("radio", name="Dressed"))
    page.keyboard.press("ArrowLeft")
    expect(page.get_by_role("radio", name="Rough")).to_be_checked()
    tab_to(page, page.locator("aside").get_by_role("button", name="Run Texture"))
    page.keyboard.press("Enter")
    expect(page.locator("footer").get_by_role("button", name="Stop")).to_be_visible()
    expect(page.locator(".bed", has_text="Texture")).to_contain_text("atlas", timeout=420_000)
    expect(page.locator(".bed", has_text="Cameras")).to_contain_text("of 16 placed")
    expect(page.locator("footer")).to_contain_text(
        "Made: Photos 1, Masks 1, Cameras 1, Points 1, Surface 1 and Texture 1."
    )
    wait_drawn(page, "mesh", 0.03)
    tab_to(page, page.get_by_role("button", name="wire"))
    page.keyboard.press("Enter")
    wait_drawn(page, "mesh", 0.03)
    page.keyboard.press("4")
    page.wait_for_function("() => document.querySelectorAll('circle.tied').length > 10")
    wait_drawn(page, "cameras", 0.002)
    wait_drawn(page, "cloud", 0.002)
    chart = page.get_by_role("slider", name="ties")
    tab_to(page, chart)
    page.keyboard.press("End")
    expect(chart).to_have_attribute("aria-valuenow", "16")
    page.keyboard.press("5")
    wait_drawn(page, "cloud", 0.01)
    page.keyboard.press("9")
    tab_to(page, page.locator("button.save[data-format=glb]"))
    with page.expect_download() as download:
        page.keyboard.press("Enter")
    assert download.value.path().read_bytes()[:4] == b"glTF"


def test_cut_undo_keep_and_download(page: Page, address: str, built: int, tmp_path: Path) -> None:
    page.goto(f"{address}/projects/{built}/finish")
    expect(page.get_by_text("0 edits ·")).to_be_visible()
    page.get_by_role("button", name="Cut", exact=True).click()
    page.get_by_role("button", name="Cut at the ground").click()
    expect(page.get_by_text("1 edit ·")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("0 edits ·")).to_be_visible()
    page.get_by_role("button", name="Redo").click()
    expect(page.get_by_text("1 edit ·")).to_be_visible()
    # a rectangle over the top of the model: what it holds is told before anything is done to it
    page.get_by_role("button", name="Select", exact=True).click()
    selected = page.locator(".tools .part").get_by_role("status")
    expect(selected).to_have_text("Nothing selected.")
    page.get_by_role("button", name="Rectangle").click()
    box = page.locator("svg.draw").bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 60, box["y"] + 40)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] - 60, box["y"] + box["height"] * 0.3, steps=4)
    page.mouse.up()
    expect(selected).to_contain_text("triangles selected.", timeout=30_000)
    page.get_by_role("button", name="Delete", exact=True).click()
    expect(page.get_by_text("2 edits ·")).to_be_visible()
    expect(selected).to_have_text("Nothing selected.")
    page.keyboard.press("Control+z")
    expect(page.get_by_text("1 edit ·")).to_be_visible()
    # the same without a pointer: from the middle of the view to its corner
    page.get_by_role("button", name="Rectangle").click()
    expect(page.locator("svg.draw")).to_be_focused()
    page.keyboard.press("Space")
    for key in ("Shift+ArrowUp", "Shift+ArrowRight") * 12:
        page.keyboard.press(key)
    page.keyboard.press("Space")
    expect(selected).to_contain_text("triangles selected.", timeout=30_000)
    page.keyboard.press("Delete")
    expect(page.get_by_text("2 edits ·")).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.get_by_text("1 edit ·")).to_be_visible()
    page.get_by_role("button", name="Save as a version").click()
    expect(page.locator(".bed", has_text="Finish")).to_contain_text("triangles", timeout=180_000)
    page.keyboard.press("9")
    with page.expect_download() as download:
        page.locator("button.save[data-format=glb]").click()
    target = tmp_path / "model.glb"
    download.value.save_as(target)
    report = subprocess.run(
        ["node", "-e", "import('gltf-validator').then(async v => { const r = await (v.default ?? v).validateBytes(new Uint8Array("
         "require('fs').readFileSync(process.argv[1]))); console.log(JSON.stringify(r.issues)) })", str(target)],
        cwd=WEB, capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert json.loads(report.stdout)["numErrors"] == 0, report.stdout[:2000]
    # the edited model with two simpler levels: one file with all of them
    alone = page.locator("button.save").inner_text()
    page.get_by_role("button", name="3 levels of detail").click()
    expect(page.locator(".levels")).to_contain_text("triangles, in one zip file")
    expect(page.locator("button.save")).not_to_have_text(alone)
    with page.expect_download() as download:
        page.locator("button.save[data-format=glb]").click()
    with zipfile.ZipFile(download.value.path()) as z:
        sizes = [z.getinfo(n).file_size for n in sorted(z.namelist(), key=lambda n: (len(n), n))]
    assert len(sizes) == 3
    assert sizes[0] > sizes[1] > sizes[2]


def test_shape_place_and_size_of_what_is_selected(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/finish")
    expect(page.get_by_text("0 edits ·")).to_be_visible()
    tools = page.locator(".tools")
    selected = tools.locator(".part").get_by_role("status")
    tools.get_by_role("button", name="All", exact=True).click()
    expect(selected).to_contain_text("triangles selected.", timeout=30_000)
    tools.get_by_role("button", name="Invert").click()
    expect(selected).to_have_text("Nothing selected.")
    tools.get_by_role("button", name="Deselect").click()
    steps = (("Cut", "Close holes"), ("Shape", "Smooth"), ("Place", "Base to the origin"), ("Size", "Decimate within"))
    for n, (section, button) in enumerate(steps, 1):
        tools.get_by_role("button", name=section, exact=True).click()
        tools.get_by_role("button", name=button, exact=True).click()
        expect(page.get_by_text(f"{n} edit{'s' if n > 1 else ''} ·")).to_be_visible(timeout=90_000)
    with page.expect_download() as download:
        page.get_by_text("Edits as a file").click()
    kinds = [e["kind"] for e in json.loads(download.value.path().read_bytes())["edits"]]
    assert kinds == ["fill", "smooth", "center", "decimate"]
    page.reload()
    expect(page.get_by_text("4 edits ·")).to_be_visible(timeout=30_000)
    for n in (3, 2, 1, 0):
        page.keyboard.press("Control+z")
        expect(page.get_by_text(f"{n} edit{'' if n == 1 else 's'} ·")).to_be_visible(timeout=60_000)


def test_plan_and_shoot_with_the_rig(page: Page, address: str) -> None:
    page.goto(address)
    page.get_by_role("button", name="New project").click()
    page.wait_for_url("**/start")
    page.get_by_role("button", name="Plan a shoot").click()
    page.wait_for_url("**/plan")
    # three laps see all of a box by three photos or more; one lap does not see its top
    under = page.locator(".charts b")
    expect(under).to_have_text("0.0 % under three photos")
    wait_drawn(page, "mesh", 0.004)
    wait_drawn(page, "cameras", 0.005)
    for label, value in (("Pixels across", "128"), ("Pixels down", "96"), ("Laps", "1")):
        field = page.get_by_label(label, exact=True)
        field.fill(value)
        field.press("Enter")
    expect(page.locator(".bed.on")).to_contain_text("20 shots planned")
    expect(under).not_to_have_text("0.0 % under three photos")
    page.get_by_role("button", name="Add 6 shots for weak places").click()
    expect(under).to_have_text("0.0 % under three photos")
    before = page.locator(".bed.on").inner_text()
    page.locator(".bed.on").focus()
    page.keyboard.press("ArrowRight")
    expect(page.locator(".through .cap")).to_contain_text("shot 1")
    page.keyboard.press("Delete")
    expect(page.locator(".bed.on")).not_to_contain_text(before.splitlines()[-1])
    page.get_by_text("Print and files").click()
    with page.expect_download() as download:
        page.get_by_role("link", name="Shot list (CSV)").click()
    assert download.value.path().read_text().startswith("shot,lap,turn_deg")
    page.get_by_role("button", name="Undo shot changes").click()
    expect(page.locator(".bed.on")).to_contain_text("20 shots planned")
    page.get_by_role("button", name="Shoot it with the practice rig").click()
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Photos 2").click()
    expect(page.get_by_role("button", name="Photos 2")).to_contain_text("20 included", timeout=180_000)


def test_keys_lead_through_the_layers(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/photos")
    expect(page.locator(".bed.on")).to_contain_text("Photos")
    for key, name in zip(
        "123456789", ("Plan", "Photos", "Masks", "Cameras", "Points", "Surface", "Texture", "Finish", "Dispatch")
    ):
        page.keyboard.press(key)
        expect(page.locator(".bed.on")).to_contain_text(name)


def test_a_spot_of_the_mesh_leads_to_the_photos_that_see_it(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/surface")
    wait_drawn(page, "mesh", 0.03)
    expect(page.locator(".photo")).to_have_count(0)
    box = page.locator("canvas").bounding_box()
    assert box is not None
    page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    told = page.get_by_text("of 24 photos see this spot, best first")
    expect(told).to_be_visible()
    # from one side a third to a half of two rings sees it
    assert 4 <= int(told.inner_text().split()[0]) <= 14
    expect(page.locator(".photo-words")).to_contain_text("1 of ")
    expect(page.locator(".seen polygon")).to_be_visible()
    page.locator(".film").focus()
    page.keyboard.press("ArrowRight")
    expect(page.locator(".photo-words")).to_contain_text("2 of ")
    page.keyboard.press("Escape")
    expect(page.locator(".seen")).to_have_count(0)


def test_errors_stand_in_the_page(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/photos")
    page.get_by_role("button", name="By path…").click()
    page.get_by_placeholder("or a folder on this machine").fill("/no/such/folder")
    page.get_by_role("button", name="Bring in").click()
    expect(page.get_by_text("There is no folder /no/such/folder.")).to_be_visible()
