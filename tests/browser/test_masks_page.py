"""Masks in the page: suggested on a turntable, painted over, undone, reloaded; from the model; from transparency."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, expect
from tests.browser.conftest import api, bring, send
from tests.conftest import RigSet


def picture(page: Page, address: str, project: int, name: str) -> np.ndarray:
    """Where something of a photo is left out."""
    answer = page.request.get(f"{address}/api/v1/projects/{project}/masks/picture?path={name}&side=400")
    return np.asarray(Image.open(io.BytesIO(answer.body())))[..., 3] > 0


@pytest.fixture(scope="module")
def turntable(address: str, turning_set: RigSet) -> int:
    project = send(address, "/api/v1/projects", "POST", {"name": "Turntable", "grade": "rough"})["id"]
    bring(address, project, turning_set.photos)
    return int(project)


def test_suggested_then_painted_undone_and_reloaded(page: Page, address: str, turntable: int) -> None:
    page.goto(f"{address}/projects/{turntable}/masks")
    page.get_by_role("button", name="Suggest masks").click()
    expect(page.locator(".bed", has_text="Masks")).to_contain_text("20 masked", timeout=240_000)
    expect(page.locator(".photo .cap")).to_contain_text("by the still backdrop")
    expect(page.locator(".tray")).to_contain_text("The camera stood still while the subject moved")
    before = picture(page, address, turntable, "finial_001.jpg")
    assert 0.7 < before.mean() < 0.95
    # a stroke that takes a piece of the subject away
    page.get_by_role("radio", name="Brush").click()
    page.get_by_role("radio", name="Take away").click()
    frame = page.locator(".photo .frame").bounding_box()
    assert frame is not None

    def place(x: float, y: float) -> tuple[float, float]:
        return frame["x"] + x * frame["width"], frame["y"] + y * frame["height"]

    page.mouse.move(*place(0.46, 0.4))
    page.mouse.down()
    page.mouse.move(*place(0.54, 0.4), steps=6)
    page.mouse.up()
    expect(page.get_by_text("Mask edits are not applied yet")).to_be_visible()
    painted = picture(page, address, turntable, "finial_001.jpg")
    assert painted.sum() > before.sum() + 100
    assert painted[120, 200]
    page.keyboard.press("Control+z")
    expect(page.get_by_text("Mask edits are not applied yet")).to_have_count(0)
    assert (picture(page, address, turntable, "finial_001.jpg") == before).all()
    page.get_by_role("button", name="Redo", exact=True).click()
    expect(page.get_by_text("Mask edits are not applied yet")).to_be_visible()
    # an outline of corners on two photos at once, closed by a key
    page.get_by_role("listbox", name="Photos").focus()
    page.keyboard.press("Home")
    page.keyboard.press("Shift+ArrowRight")
    page.get_by_role("radio", name="Corners").click()
    page.get_by_role("radio", name="Ignore").click()
    for x, y in ((0.02, 0.02), (0.12, 0.02), (0.12, 0.2)):
        page.mouse.click(*place(x, y))
    page.keyboard.press("Enter")
    page.reload()
    expect(page.get_by_text("Mask edits are not applied yet")).to_be_visible()
    told = api(address, f"/api/v1/projects/{turntable}/masks")
    assert told["undo"] == 2
    assert {r["path"]: r["edits"] for r in told["rows"] if r["edits"]} == {"finial_001.jpg": 2, "finial_002.jpg": 1}
    page.get_by_role("button", name="Apply", exact=True).click()
    expect(page.get_by_text("Mask edits are not applied yet")).to_have_count(0, timeout=120_000)
    with page.expect_download() as download:
        page.get_by_role("link", name="Save").click()
    assert download.value.path().read_bytes()[:2] == b"PK"


def test_from_the_model_of_the_keep_box(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/masks")
    send(address, f"/api/v1/projects/{built}/layers/masks/settings", "PUT", {"way": "model"})
    page.get_by_role("button", name="Run Masks").click()
    expect(page.locator(".bed", has_text="Masks")).to_contain_text("24 masked", timeout=240_000)
    expect(page.locator(".photo .cap")).to_contain_text("from the model")
    layers = {x["layer"]: x["state"] for x in api(address, f"/api/v1/projects/{built}/layers")}
    assert layers["cameras"] == "ready"
    assert layers["texture"] == "out of date"
    send(address, f"/api/v1/projects/{built}/layers/masks/settings/way", "DELETE")


def test_photos_that_bring_their_own_transparency(page: Page, address: str, tmp_path: Path) -> None:
    for k in range(2):
        rgba = np.full((120, 160, 4), (90 + k, 120, 60, 255), np.uint8)
        rgba[:, 80:, 3] = 0
        Image.fromarray(rgba).save(tmp_path / f"alpha_{k}.png")
    project = send(address, "/api/v1/projects", "POST", {"name": "Transparent"})["id"]
    bring(address, project, tmp_path)
    page.goto(f"{address}/projects/{project}/masks")
    page.get_by_role("button", name="Run Masks").click()
    expect(page.locator(".bed", has_text="Masks")).to_contain_text("2 masked", timeout=120_000)
    expect(page.locator(".photo .cap")).to_contain_text("from a file · 50 % kept")
    left = picture(page, address, project, "alpha_0.png")
    assert left[:, 85:].all()
    assert not left[:, :75].any()
