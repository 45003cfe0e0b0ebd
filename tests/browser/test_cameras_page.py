"""The Cameras page: photos in a table, errors on the photo, the lens, and a distance measured for the scale."""

from __future__ import annotations

import numpy as np
from playwright.sync_api import Page, expect
from tests.browser.conftest import api, send
from tests.conftest import RigSet, camera_of

from vast_quarry.core.camera import project
from vast_quarry.core.pose import fit_similarity


def click_at(page: Page, x: float, y: float) -> None:
    """Click on the photo, in parts of its sides."""
    frame = page.locator(".photo .frame").bounding_box()
    assert frame
    page.mouse.click(frame["x"] + x * frame["width"], frame["y"] + y * frame["height"])


def test_photos_in_a_table_errors_and_the_lens(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/cameras")
    page.get_by_role("radio", name="Table").click()
    rows = page.locator(".table tbody tr")
    expect(rows).to_have_count(24)
    page.get_by_role("button", name="Error (px)").click()
    values = [float(x) for x in page.locator(".table tbody tr td:nth-child(4)").all_inner_texts()]
    assert values == sorted(values)
    page.get_by_role("button", name="Error (px)").click()
    expect(page.locator("th[aria-sort=descending]")).to_have_text("Error (px) ↓")
    page.locator("td .name").first.click()
    page.get_by_role("button", name="Errors × 100").click()
    expect(page.locator("svg .miss").first).to_be_attached()
    page.get_by_role("button", name="Errors × 100").click()
    expect(page.locator("svg .miss")).to_have_count(0)
    page.get_by_role("radio", name="Lens", exact=True).click()
    expect(page.locator(".lenses article")).to_have_count(1)
    expect(page.get_by_text("off what the photos say")).to_be_visible()
    page.get_by_role("radio", name="Chart").click()


def test_pairs_the_track_of_a_point_and_looking_through(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/cameras")
    page.get_by_role("radio", name="Table").click()
    page.locator("td .name").nth(4).click()
    page.get_by_role("radio", name="Pairs").click()
    partner = page.locator(".pairs li button").first
    expect(partner).to_be_visible()
    name = partner.inner_text().split(" · ")[0]
    partner.click()
    expect(page.locator(".pair .cap")).to_contain_text(name)
    expect(page.locator(".pair svg line").nth(20)).to_be_attached()
    page.get_by_role("button", name="One photo again").click()
    # a press on a tied feature shows the place in all photos that have it
    expect(page.locator("svg .tied").first).to_be_attached()
    x, y, w, h = page.evaluate(
        "() => { const c = document.querySelectorAll('svg .tied')[10], v = c.ownerSVGElement.viewBox.baseVal;"
        " return [+c.getAttribute('cx'), +c.getAttribute('cy'), v.width, v.height] }"
    )
    click_at(page, x / w, y / h)
    expect(page.locator(".track li").nth(1)).to_be_visible()
    expect(page.locator(".track p")).to_contain_text("The point in")
    # what the camera sees is what its photo shows: its own points project to where the free look has them not
    page.get_by_role("button", name="Look through").click()
    expect(page.locator("img.through")).to_be_visible()
    at = page.evaluate("() => vqWorld.camera.position.toArray()")
    chosen = page.locator(".photo .cap").inner_text().split(" · ")[0]
    scene = api(address, f"/api/v1/projects/{built}/layers/cameras/scene")
    center = next(c["center"] for c in scene["cameras"] if c["photo"] == chosen)
    assert np.allclose(at, center, atol=1e-6)
    page.get_by_role("button", name="Look freely").click()
    expect(page.locator("img.through")).to_have_count(0)
    assert not np.allclose(page.evaluate("() => vqWorld.camera.position.toArray()"), center, atol=1e-3)


def test_a_distance_is_measured_and_gives_the_scale(
    page: Page, address: str, built: int, milestone_set: RigSet
) -> None:
    """The ends are clicked where the truth has them, in two photos each; after the first mark a line shows where to look."""
    page.goto(f"{address}/projects/{built}/cameras")
    page.get_by_role("radio", name="Table").click()
    page.get_by_role("button", name="Measure").click()
    ends = [np.array([0.0, 0.0, 0.05]), np.array([0.0, 0.0, 0.5])]
    for number, end in enumerate(ends, 1):
        page.get_by_role("button", name=f"End {number}:").click()
        for k in (12, 15):
            c = milestone_set.cameras[k]
            page.get_by_role("button", name=c["photo"], exact=True).click()
            expect(page.locator(".photo .cap")).to_contain_text(c["photo"])
            if k == 15:
                expect(page.locator(".marks .line")).to_be_attached()
            (x, y), _ = (a[0] for a in project(camera_of(c), np.array(c["rotation"]), np.array(c["center"]), end[None]))
            click_at(page, (x + 0.5) / c["width"], (y + 0.5) / c["height"])
        expect(page.get_by_role("button", name=f"End {number}: 2 photos")).to_be_visible()
    apply = page.locator(".rows .take")
    expect(apply).to_be_disabled()
    page.get_by_label("Length of A in mm").fill("450")
    page.keyboard.press("Enter")
    expect(apply).to_be_enabled()
    apply.click()
    expect(page.get_by_text("1 measured distance gives the scale within")).to_be_visible()
    version = next(v for v in api(address, f"/api/v1/projects/{built}/layers") if v["layer"] == "cameras")["versions"][
        -1
    ]
    assert version["figures"]["scale_from"] == "bars"
    scene = api(address, f"/api/v1/projects/{built}/layers/cameras/scene")
    true = {c["photo"]: c["center"] for c in milestone_set.cameras}
    pairs = [(c["center"], true[c["photo"]]) for c in scene["cameras"] if c["center"]]
    scale = fit_similarity([p[0] for p in pairs], [p[1] for p in pairs]).scale
    assert abs(scale - 1) < 0.03  # a click on a small picture is coarse
    page.goto(f"{address}/projects/{built}/dispatch")
    expect(page.get_by_text("by measured distances")).to_be_visible()
    send(address, f"/api/v1/projects/{built}/layers/cameras/settings/bars", "DELETE")
