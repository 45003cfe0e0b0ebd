"""A thousand photos in the page: scrolled, brushed and picked, with as little drawn as is seen."""

from __future__ import annotations

import json
from pathlib import Path

import cv2
import numpy as np
from playwright.sync_api import Page, expect
from tests.browser.conftest import Server, bring, send

from vast_quarry.server.services import judging

COUNT = 1000


def test_a_thousand_photos_are_scrolled_brushed_and_picked(page: Page, server: Server, tmp_path: Path) -> None:
    plain = np.full((120, 160, 3), 90, np.uint8)
    for k in range(COUNT):
        # each is another picture: the same one is not taken twice
        at = (k % 160, 20 + 10 * (k // 160))
        cv2.imwrite(str(tmp_path / f"{k:04d}.jpg"), cv2.circle(plain.copy(), at, 12, (200, 180, 160), -1))
    project = send(server.url, "/api/v1/projects", "POST", {"name": "A thousand"})["id"]
    where = f"/api/v1/projects/{project}"
    bring(server.url, project, tmp_path, copy_files=False)
    root = server.data / "projects" / str(project)
    rows = [
        {
            "photo": f"{k:04d}.jpg", "proposal": "keep", "reasons": [], "says": "", "sharpness_px": 1 + 0.4 * np.sin(k / 90),
            "set": "near" if k < 700 else "far", "limits": {"sharpness_px": 1.6},
            "tag": judging._tag(root / "photos" / f"{k:04d}.jpg"),
        }
        for k in range(COUNT)
    ]  # fmt: skip
    (root / judging.JUDGED).write_text(json.dumps({"photos": rows, "findings": []}))
    page.goto(f"{server.url}/projects/{project}/photos")
    expect(page.get_by_text(f"{COUNT:,} included, 0 left out")).to_be_visible()
    sheet = page.get_by_role("listbox", name="Photos")
    expect(sheet.get_by_role("option", name="near, 700")).to_be_visible()
    few = page.locator(".ph").count()
    assert 4 <= few < 60  # only what is seen is there
    # small thumbnails show many; a set folds away
    page.get_by_label("Size", exact=True).fill("40")
    expect(page.locator(".ph").nth(100)).to_be_attached()
    assert page.locator(".ph").count() < 500
    sheet.get_by_role("option", name="near, 700").click()
    expect(sheet.get_by_role("option", name="0700.jpg")).to_be_visible()
    sheet.get_by_role("option", name="near, 700").click()
    # by keys to the end, and all at once
    sheet.focus()
    page.keyboard.press("End")
    expect(sheet.get_by_role("option", name="0999.jpg")).to_be_visible()
    page.keyboard.press("Control+a")
    expect(page.get_by_role("toolbar", name=f"{COUNT:,} photos picked")).to_be_visible()
    page.keyboard.press("Escape")
    # the chart is one canvas: a third of it is brushed and left out
    chart = page.get_by_role("slider", name="width of edges, px")
    expect(chart).to_have_attribute("aria-valuemax", str(COUNT))
    assert page.locator(".strip button").count() == 0
    box = chart.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 42, box["y"] + 30)
    page.mouse.down()
    page.mouse.move(box["x"] + 40 + (box["width"] - 40) / 3, box["y"] + 30, steps=6)
    page.mouse.up()
    picked = page.get_by_role("toolbar", name="picked")
    count = int(picked.locator("b").inner_text().split()[0])
    assert 300 <= count <= 340
    picked.get_by_role("button", name="Leave out").click()
    expect(page.get_by_text(f"{COUNT - count} included, {count} left out")).to_be_visible()
    send(server.url, where, "DELETE")
