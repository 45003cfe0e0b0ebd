"""Photos in a real browser: planted defects are found, accepted, taken back; a video is cut into frames."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, expect
from tests.conftest import RigSet

from vast_quarry.core.rig.defects import disc_kernel, motion_kernel


def new_photos(page: Page, address: str, name: str) -> None:
    page.goto(address)
    page.get_by_placeholder("Name of the object or place").fill(name)
    page.get_by_role("button", name="New project", exact=True).click()
    page.wait_for_url("**/start")
    page.keyboard.press("2")
    page.wait_for_url("**/photos")


#: number of the photo to what is done to it and what judging is to say
SPOILT = {
    3: ("motion blur", lambda p: cv2.filter2D(p, -1, motion_kernel(10, 20))),
    8: ("out of focus", lambda p: cv2.filter2D(p, -1, disc_kernel(8))),
    13: ("stops ", lambda p: np.clip(p * 0.22, 0, 255).astype(np.uint8)),
    16: ("motion blur", lambda p: cv2.filter2D(p, -1, motion_kernel(12, 100))),
    20: ("clipped white", lambda p: np.clip(p * 2.6, 0, 255).astype(np.uint8)),
    22: ("out of focus", lambda p: cv2.filter2D(p, -1, disc_kernel(10))),
}
#: photos that are there twice: as a copy, and made smaller; and photos of other things
TWICE, AGAIN, OTHERS = (6,), (18,), 2
TOTAL = 24 + len(TWICE) + len(AGAIN) + OTHERS


@pytest.fixture(scope="module")
def planted(milestone_set: RigSet, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Two laps of twelve photos, six of them spoilt, two that are there twice, two of other things."""
    photos = tmp_path_factory.mktemp("planted") / "photos"
    shutil.copytree(milestone_set.photos, photos)
    names = sorted(p.name for p in photos.iterdir())
    for k, (_, change) in SPOILT.items():
        exif = Image.open(photos / names[k]).info["exif"]
        picture = np.asarray(Image.open(photos / names[k]))
        Image.fromarray(change(picture)).save(photos / names[k], quality=95, exif=exif)
    for k in TWICE:
        # saved once more by a program that drops when it was taken: the same file itself would not be taken twice, and with the time
        # of the first it would be told as another version of that shot
        Image.open(photos / names[k]).save(photos / f"z_{names[k]}", quality=95)
    for k in AGAIN:
        Image.open(photos / names[k]).resize((360, 270)).save(photos / f"z_{names[k]}", quality=85)
    for k in range(OTHERS):
        other = np.random.default_rng(k).integers(0, 255, (60, 80, 3), np.uint8)
        cv2.imwrite(str(photos / f"z_other{k}.jpg"), cv2.resize(other, (480, 360), interpolation=cv2.INTER_CUBIC))
    return photos


def test_planted_defects_are_found_accepted_and_taken_back(page: Page, address: str, planted: Path) -> None:
    new_photos(page, address, "Judged")
    page.locator("input[type=file]").first.set_input_files(sorted(planted.iterdir()))
    expect(page.get_by_text(f"{TOTAL} included, 0 left out")).to_be_visible(timeout=60_000)
    page.get_by_role("button", name="Judge the photos").click()
    rows = page.locator(".proposals li")
    # all of them: some are told while others are still looked at
    expect(rows).to_have_count(len(SPOILT) + OTHERS + len({*TWICE, *AGAIN}), timeout=180_000)
    told = {r.split(" ")[0]: r for r in rows.all_inner_texts()}
    files = sorted(p.name for p in planted.iterdir())
    for k, (says, _) in SPOILT.items():
        assert says in told.pop(files[k]), k
    for k in range(OTHERS):
        assert "shares nothing" in told.pop(f"z_other{k}.jpg")
    for k in (*TWICE, *AGAIN):
        double = next(n for n in told if n in (files[k], f"z_{files[k]}"))
        assert "same view" in told.pop(double) or k in AGAIN
    # none of the good ones is condemned
    assert told == {}
    accept = page.get_by_role("button", name="ticked ones")
    before = page.locator(".proposals li input:checked").count()
    assert before >= len(SPOILT)
    accept.click()
    expect(page.get_by_text(f"{TOTAL - before} included, {before} left out")).to_be_visible()
    page.get_by_role("button", name=f"Include the {before} again").click()
    expect(page.get_by_text(f"{TOTAL} included, 0 left out")).to_be_visible()
    # a stretch of the chart is brushed and left out with one press
    bars = page.locator(".bars").bounding_box()
    assert bars is not None
    page.mouse.move(bars["x"] + 4, bars["y"] + 30)
    page.mouse.down()
    page.mouse.move(bars["x"] + 0.2 * bars["width"], bars["y"] + 30, steps=4)
    page.mouse.up()
    picked = page.get_by_role("toolbar", name="picked")
    count = int(picked.locator("b").inner_text().split()[0])
    assert 4 <= count <= 8
    picked.get_by_role("button", name="Leave out").click()
    expect(page.get_by_text(f"{TOTAL - count} included, {count} left out")).to_be_visible()
    # and that is taken back, as everything that is done to photos
    page.keyboard.press("Control+z")
    expect(page.get_by_text(f"{TOTAL} included, 0 left out")).to_be_visible()
    page.get_by_role("button", name="Redo").click()
    expect(page.get_by_text(f"{TOTAL - count} included, {count} left out")).to_be_visible()
    # two photos beside each other share one zoom
    rows.first.get_by_role("button").click()
    page.get_by_role("button", name="Pin beside").click()
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
    wide = cv2.resize(np.random.default_rng(1).integers(0, 255, (60, 600, 3), np.uint8), (1040, 240))
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
    page.keyboard.press("i")
    page.mouse.click(box["x"] + 0.4 * box["width"], box["y"] + 20)
    page.keyboard.press("o")
    expect(take).not_to_contain_text(f"Take {whole} ")
    assert page.locator(".big img").get_attribute("src") != first
    count = int(take.inner_text().split()[1])
    assert count < whole
    take.click()
    expect(page.get_by_role("button", name="Photos 2")).to_contain_text(f"{count} included", timeout=60_000)


def test_evening_out_one_photo_and_keeping_its_settings(page: Page, address: str, milestone_set: RigSet) -> None:
    new_photos(page, address, "Evened")
    page.locator("input[type=file]").first.set_input_files(sorted(milestone_set.photos.iterdir())[:3])
    expect(page.get_by_text("3 included, 0 left out")).to_be_visible()
    page.locator(".ph").nth(1).click()
    page.get_by_role("button", name="Even out").click()
    tone = page.locator(".tone")
    tone.get_by_role("button", name="this one").click()
    slider = tone.get_by_role("slider", name="Lift shadows")
    slider.focus()
    for _ in range(4):
        slider.press("ArrowRight")
    expect(slider).to_have_attribute("aria-valuenow", "0.2")
    expect(tone.get_by_text("With settings of their own: 1.")).to_be_visible()
    tone.get_by_placeholder("Save these as …").fill("shady side")
    tone.get_by_placeholder("Save these as …").press("Enter")
    expect(tone.get_by_role("button", name="Delete")).to_be_visible()
    # another photo is as it was, until it is given what was kept
    page.locator(".ph").nth(2).click()
    expect(slider).to_have_attribute("aria-valuenow", "0")
    tone.locator(".row:has([aria-label='Saved settings']) .el-select__wrapper").click()
    page.get_by_role("option", name="shady side").click()
    expect(tone.get_by_text("With settings of their own: 2.")).to_be_visible()
    # copied to all of them, and taken back
    tone.get_by_role("button", name="all", exact=True).click()
    tone.get_by_role("button", name="Use these for all photos").click()
    expect(tone.get_by_text("With settings of their own")).to_have_count(0)
    page.locator(".ph").nth(2).click()
    expect(slider).to_have_attribute("aria-valuenow", "0.2")
    tone.get_by_role("button", name="As they were shot").click()
    expect(slider).to_have_attribute("aria-valuenow", "0")
