"""Photos in a real browser: planted defects are found, accepted, taken back; a video is cut into frames."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, expect
from tests.browser.conftest import READY
from tests.conftest import RigSet

from vast_quarry.core.rig.defects import disc_kernel, motion_kernel

pytestmark = pytest.mark.skipif(not READY, reason="needs chromium and the built page")


def new_photos(page: Page, address: str, name: str) -> None:
    page.goto(address)
    page.get_by_placeholder("Name of the object or place").fill(name)
    page.get_by_role("button", name="New project", exact=True).click()
    page.wait_for_url("**/plan")
    page.keyboard.press("2")
    page.wait_for_url("**/photos")


@pytest.fixture(scope="module")
def planted(milestone_set: RigSet, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The rig's photos, some of them spoilt."""
    folder = tmp_path_factory.mktemp("planted")
    names = []
    for file in sorted(milestone_set.photos.iterdir()):
        shutil.copy(file, folder / file.name)
        names.append(file.name)
    for k, change in (
        (3, lambda p: cv2.filter2D(p, -1, motion_kernel(10, 20))),
        (9, lambda p: cv2.filter2D(p, -1, disc_kernel(8))),
        (15, lambda p: np.clip(p * 0.22, 0, 255).astype(np.uint8)),
    ):
        picture = cv2.imread(str(folder / names[k]))
        cv2.imwrite(str(folder / names[k]), change(picture), [cv2.IMWRITE_JPEG_QUALITY, 95])
    shutil.copy(folder / names[6], folder / f"z_{names[6]}")
    other = np.random.default_rng(0).integers(0, 255, (60, 80, 3), np.uint8)
    cv2.imwrite(str(folder / "z_other.jpg"), cv2.resize(other, (480, 360), interpolation=cv2.INTER_CUBIC))
    return folder


def test_planted_defects_are_found_accepted_and_taken_back(page: Page, address: str, planted: Path) -> None:
    new_photos(page, address, "Judged")
    page.locator("input[type=file]").first.set_input_files(sorted(planted.iterdir()))
    expect(page.get_by_text("26 kept, 0 left out")).to_be_visible()
    page.get_by_role("button", name="Judge the photos").click()
    rows = page.locator(".proposals li")
    expect(rows.first).to_be_visible(timeout=120_000)
    told = {r.split(" ")[0]: r for r in rows.all_inner_texts()}
    files = sorted(p.name for p in planted.iterdir())
    spoilt = {files[3]: "moved", files[9]: "out of focus", files[15]: "stops off", "z_other.jpg": "shares nothing"}
    for name, says in spoilt.items():
        assert says in told[name], told
    double = next(n for n in told if n in (files[6], f"z_{files[6]}"))
    assert "same view" in told[double]
    # none of the good ones is condemned
    assert set(told) == {*spoilt, double}
    accept = page.get_by_role("button", name="ticked ones")
    before = page.locator(".proposals li input:checked").count()
    assert before >= 2
    accept.click()
    expect(page.get_by_text(f"{26 - before} kept, {before} left out")).to_be_visible()
    page.get_by_role("button", name=f"Take the {before} back").click()
    expect(page.get_by_text("26 kept, 0 left out")).to_be_visible()
    # a stretch of the chart is brushed and left out with one press
    bars = page.locator(".bars").bounding_box()
    assert bars is not None
    page.mouse.move(bars["x"] + 4, bars["y"] + 30)
    page.mouse.down()
    page.mouse.move(bars["x"] + 0.2 * bars["width"], bars["y"] + 30, steps=4)
    page.mouse.up()
    brushed = page.get_by_role("button", name="Leave these ")
    count = int(brushed.inner_text().split()[2])
    assert 4 <= count <= 7
    brushed.click()
    expect(page.get_by_text(f"{26 - count} kept, {count} left out")).to_be_visible()
    # two photos beside each other share one zoom
    rows.first.get_by_role("button").click()
    page.get_by_role("button", name="Keep beside").click()
    rows.last.get_by_role("button").click()
    expect(page.locator(".panes .photo")).to_have_count(2)
    page.locator(".panes .photo").first.get_by_role("button", name="1:1").click()
    turned = [f.get_attribute("style") or "" for f in page.locator(".panes .frame").all()]
    assert len({t.split("transform")[1].split(";")[0] for t in turned}) == 1


def test_a_video_is_dragged_along_and_cut_into_frames(page: Page, address: str, tmp_path: Path) -> None:
    file = tmp_path / "walk.mp4"
    container = av.open(str(file), "w")
    stream: Any = container.add_stream("mpeg4", rate=25)
    stream.width, stream.height, stream.pix_fmt, stream.bit_rate = 320, 240, "yuv420p", 4_000_000
    wide = cv2.resize(np.random.default_rng(1).integers(0, 255, (60, 260, 3), np.uint8), (1040, 240))
    for k in range(100):  # goes along, stands still for a second, goes on
        x = 8 * min(k, 50) + 8 * max(0, k - 75)
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(wide[:, x : x + 320]), format="rgb24")
        container.mux(stream.encode(frame))
    container.mux(stream.encode())
    container.close()
    new_photos(page, address, "Filmed")
    page.locator("input[type=file]").first.set_input_files(file)
    strip = page.locator(".strip")
    expect(strip).to_be_visible(timeout=60_000)
    take = page.get_by_role("button", name="Take ")
    expect(take).not_to_contain_text("Take 0")
    whole = int(take.inner_text().split()[1])
    # 75 frames that move by 8 of 320 pixels: a fifth of the picture every 8 frames
    assert 7 <= whole <= 14
    box = strip.bounding_box()
    assert box is not None
    first = page.locator(".big img").get_attribute("src")
    page.mouse.click(box["x"] + 0.05 * box["width"], box["y"] + 20)
    page.keyboard.press("b")
    page.mouse.click(box["x"] + 0.4 * box["width"], box["y"] + 20)
    page.keyboard.press("n")
    expect(take).not_to_contain_text(f"Take {whole} ")
    assert page.locator(".big img").get_attribute("src") != first
    count = int(take.inner_text().split()[1])
    assert count < whole
    take.click()
    expect(page.get_by_role("button", name="Photos 2")).to_contain_text(f"{count} kept", timeout=60_000)
