"""Takes one picture of each view of the demo into docs/screenshots; needs a running ``make demo``.

.venv/bin/python scripts/screenshots.py [ADDRESS]
"""

from __future__ import annotations

import json
import sys
import urllib.request
from pathlib import Path

from playwright.sync_api import sync_playwright

ARGS = ["--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking", "--no-first-run"]
LAYERS = ("plan", "photos", "masks", "cameras", "points", "surface", "texture", "finish", "dispatch")
TARGET = Path(__file__).parents[1] / "docs" / "screenshots"


def main() -> None:
    """Go through the views."""
    address = sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8765"
    projects = json.loads(urllib.request.urlopen(f"{address}/api/v1/projects").read())
    number = next(p["id"] for p in projects if "finished" in p["name"])
    planned = next(p["id"] for p in projects if "planned" in p["name"])
    TARGET.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=ARGS, chromium_sandbox=False)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.on("pageerror", lambda e: print("error in the page:", e))
        page.goto(address)
        page.wait_for_timeout(2500)
        # which folder it is, is of one machine
        page.add_style_tag(content=".kept { visibility: hidden }")
        page.screenshot(path=TARGET / "projects.png")
        for layer in LAYERS:
            page.goto(f"{address}/projects/{planned if layer == 'plan' else number}/{layer}")
            page.wait_for_timeout(5000)
            if layer == "masks":  # of the turntable, suggested
                turned = next(p["id"] for p in projects if "turntable" in p["name"])
                page.goto(f"{address}/projects/{turned}/masks")
                page.get_by_role("button", name="Suggest masks").click()
                page.locator(".bed", has_text="24 masked").wait_for(timeout=180_000)
                page.get_by_role("radio", name="Freehand").click()
                page.wait_for_timeout(3000)
            if layer == "plan":  # look through one of the planned cameras
                for _ in range(8):
                    page.keyboard.press("ArrowRight")
                page.wait_for_timeout(1500)
            if layer == "surface":  # the photos that see a spot
                box = page.locator("canvas").bounding_box()
                page.mouse.click(box["x"] + 0.45 * box["width"], box["y"] + 0.45 * box["height"])
                page.wait_for_timeout(3000)
            page.screenshot(path=TARGET / f"{layer}.png")
            if layer == "points":  # points chosen by a rectangle
                page.get_by_role("button", name="Clear points away").click()
                box = page.locator("svg.draw").bounding_box()
                page.mouse.move(box["x"] + 0.35 * box["width"], box["y"] + 0.7 * box["height"])
                page.mouse.down()
                page.mouse.move(box["x"] + 0.65 * box["width"], box["y"] + 0.98 * box["height"], steps=4)
                page.mouse.up()
                page.wait_for_timeout(3000)
                page.screenshot(path=TARGET / "clear.png")
        for name, said, press in (("judge", "spoilt", None), ("video", "filmed", "Video")):
            page.goto(f"{address}/projects/{next(p['id'] for p in projects if said in p['name'])}/photos")
            page.wait_for_timeout(5000)
            if press:
                page.get_by_role("button", name=press, exact=True).click()
                page.wait_for_timeout(2500)
            else:
                page.locator(".proposals li button").nth(1).click()
                page.wait_for_timeout(1500)
            page.screenshot(path=TARGET / f"{name}.png")
            if name == "judge":
                page.get_by_role("button", name="Even out").click()
                page.locator(".row:has([aria-label='Vignetting']) .el-select__wrapper").click()
                page.get_by_role("option", name="measured here").click()
                page.wait_for_timeout(2000)
                page.evaluate("document.querySelector('.tone').scrollIntoView()")
                page.wait_for_timeout(500)
                page.screenshot(path=TARGET / "even.png")
                page.get_by_role("button", name="As they were shot").click()
        browser.close()


if __name__ == "__main__":
    main()
