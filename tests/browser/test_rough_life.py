"""The application in a real browser: two tabs, cut uploads, a server that goes away, touch."""

from __future__ import annotations

import re
import socket
import time

import pytest
from playwright.sync_api import Error as PageError
from playwright.sync_api import Page, expect
from tests.browser.conftest import WORLD, Server, api, quiet, send, wait_drawn
from tests.conftest import SMALL, RigSet


def test_an_upload_cut_in_the_middle_leaves_nothing_half(
    page: Page, address: str, server: Server, milestone_set: RigSet
) -> None:
    photo = next(milestone_set.photos.iterdir()).read_bytes()
    project = send(address, "/api/v1/projects", "POST", {"name": "Cut"})["id"]
    head = b'--B\r\nContent-Disposition: form-data; name="files"; filename="whole.jpg"\r\n\r\n' + photo
    with socket.create_connection(("127.0.0.1", server.port)) as s:
        s.sendall(
            f"POST /api/v1/projects/{project}/photos HTTP/1.1\r\nHost: x\r\nContent-Type: multipart/form-data; boundary=B\r\n"
            f"Content-Length: {len(head) + 500}\r\n\r\n".encode()
        )
        s.sendall(head)
    time.sleep(1.0)
    assert api(address, f"/api/v1/projects/{project}/photos") == []
    assert [p for p in (server.data / "projects" / str(project) / "photos").rglob("*") if p.is_file()] == []
    # the same files again go through
    page.goto(f"{address}/projects/{project}/photos")
    page.locator("input[type=file]").first.set_input_files([next(milestone_set.photos.iterdir())])
    expect(page.get_by_text("1 included, 0 left out")).to_be_visible()


def test_two_tabs_on_one_project(page: Page, address: str, built: int) -> None:
    assert page.context.browser is not None
    other = page.context.browser.new_page()
    other.goto(f"{address}/projects/{built}/photos")
    page.goto(f"{address}/projects/{built}/photos")
    expect(other.get_by_text("24 included, 0 left out")).to_be_visible()
    page.get_by_role("button", name="Leave out").click()
    expect(other.get_by_text("23 included, 1 left out")).to_be_visible()
    other.get_by_role("button", name="Include", exact=True).click()
    expect(page.get_by_text("24 included, 0 left out")).to_be_visible()
    other.close()


def test_level_by_hand(page: Page, address: str, built: int) -> None:
    page.goto(f"{address}/projects/{built}/cameras")
    wait_drawn(page, "cloud", 0.002)
    page.get_by_role("button", name="Level by hand").click()
    # or stood up as another kind of subject, in one press
    page.get_by_role("combobox", name="Or take it as").click(force=True)
    expect(page.get_by_role("option", name="a wall or facade")).to_be_visible()
    page.get_by_role("option", name="an object", exact=True).click()
    canvas = page.locator("svg.draw").bounding_box()
    assert canvas is not None
    x, y = canvas["x"] + canvas["width"] / 2, canvas["y"] + canvas["height"] * 0.55
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 10, y - 100, steps=3)
    page.mouse.up()
    expect(page.locator(".told")).to_have_text("y -5.711°")
    page.get_by_role("button", name="↻ 1°").click()
    expect(page.locator(".told")).to_have_text("y -4.711°")
    # and a place of the cloud is to stand over the origin
    page.get_by_role("button", name="The centre").click()
    page.mouse.click(x, y)
    expect(page.locator(".told")).to_have_text("y -4.711°, centre")
    made = len(api(address, f"/api/v1/projects/{built}/layers")[2]["versions"]) + 1
    page.get_by_role("button", name="Apply", exact=True).click()
    expect(page.locator(".ver", has_text=f"Cameras {made}")).to_contain_text("in use", timeout=60_000)
    layers = api(address, f"/api/v1/projects/{built}/layers")
    settings = layers[2]["versions"][-1]["settings"]  # type: ignore[index]
    assert settings["level"] == [["y", -4.711]]
    assert len(settings["center"]) == 3
    page.locator(".ver", has_text="Cameras 1").get_by_role("button", name="Compare").click()
    expect(page.get_by_role("separator", name="Line between the two versions")).to_be_visible()
    page.locator(".ver", has_text="Cameras 1").get_by_role("button", name="Use").click()
    expect(page.locator(".ver", has_text="Cameras 1")).to_contain_text("in use")


def test_the_page_outlives_its_server(page: Page, address: str, built: int, server: Server) -> None:
    page.goto(f"{address}/projects/{built}/photos")
    expect(page.get_by_text("Nothing runs")).to_be_visible()
    server.stop()
    expect(page.get_by_text("The server does not answer")).to_be_visible()
    server.start()
    expect(page.get_by_text("Nothing runs")).to_be_visible()
    page.get_by_role("button", name="Leave out").click()
    expect(page.get_by_text("23 included, 1 left out")).to_be_visible()
    page.get_by_role("button", name="Include", exact=True).click()


def test_on_a_tablet_by_touch(page: Page, address: str, built: int) -> None:
    context = page.context.browser.new_context(viewport={"width": 1024, "height": 768}, has_touch=True)  # type: ignore[union-attr]
    tablet = context.new_page()
    tablet.add_init_script(path=WORLD)
    tablet.goto(f"{address}/projects/{built}/texture")
    wait_drawn(tablet, "mesh", 0.03)
    # the frame fits: nothing has to be scrolled to
    assert tablet.evaluate(
        "() => document.documentElement.scrollHeight <= innerHeight && document.documentElement.scrollWidth <= innerWidth"
    )
    before = tablet.evaluate("() => window.vqWorld.matrix()")
    box = tablet.locator("canvas").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    touch = context.new_cdp_session(tablet)
    touch.send("Input.dispatchTouchEvent", {"type": "touchStart", "touchPoints": [{"x": x, "y": y}]})
    for k in range(1, 6):
        touch.send("Input.dispatchTouchEvent", {"type": "touchMove", "touchPoints": [{"x": x + 15 * k, "y": y}]})
    touch.send("Input.dispatchTouchEvent", {"type": "touchEnd", "touchPoints": []})
    tablet.wait_for_function(
        "before => window.vqWorld.matrix().some((v, k) => Math.abs(v - before[k]) > 1e-3)", arg=before
    )
    tablet.get_by_role("button", name="Photos 2").tap()
    expect(tablet.locator(".bed.on")).to_contain_text("Photos")
    # a long press picks several; two fingers that part enlarge the photo
    tablet.locator(".ph").nth(1).tap()
    tablet.locator(".ph").nth(2).dispatch_event("contextmenu")
    expect(tablet.get_by_role("toolbar", name="2 photos picked")).to_be_visible()
    box = tablet.locator(".photo").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2

    def fingers(kind: str, apart: float) -> None:
        points = [{"x": x - apart, "y": y, "id": 0}, {"x": x + apart, "y": y, "id": 1}] if apart else []
        touch.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})

    fingers("touchStart", 20)
    for apart in (30, 45, 60):
        fingers("touchMove", apart)
    fingers("touchEnd", 0)
    frame = tablet.locator(".photo .frame")
    expect(frame).to_have_attribute("style", re.compile(r"scale\((2\.[5-9]|3)"))
    # held upright nothing is pushed out of the frame, and the view through a camera keeps its place
    tablet.set_viewport_size({"width": 820, "height": 1180})
    tablet.goto(f"{address}/projects/{built}/plan")
    through = tablet.locator(".through")
    expect(through).to_be_visible()
    assert through.bounding_box()["height"] > 100  # type: ignore[index]
    assert tablet.evaluate("() => document.documentElement.scrollWidth <= innerWidth")
    context.close()


def test_an_idle_tab_asks_for_little_while_a_job_runs_and_stop_is_not_kept_waiting(
    page: Page, address: str, built: int
) -> None:
    """An idle tab makes under one request a second, and Stop gets through beside many pictures that are asked for."""
    page.goto(f"{address}/projects/{built}/photos")
    expect(page.get_by_text("Nothing runs")).to_be_visible()
    page.wait_for_function(
        "() => { const all = [...document.querySelectorAll('.ph img')]; return all.length && all.every((i) => i.complete) }"
    )
    quiet(page)
    asked: list[str] = []
    note = lambda request: asked.append(request.url)  # noqa: E731
    send(address, f"/api/v1/projects/{built}/layers/points/settings", "PUT", {**SMALL["points"], "least_views": 4})
    quiet(page)  # what that changes is asked for first
    page.on("request", note)
    began = time.monotonic()
    send(address, f"/api/v1/projects/{built}/layers/points/run", "POST", {})
    stop = page.locator("footer").get_by_role("button", name="Stop")
    expect(stop).to_be_visible()
    page.wait_for_timeout(8000)
    assert len(asked) < time.monotonic() - began, "\n".join(asked)
    page.remove_listener("request", note)
    # six connections are all that a browser has: pictures must not take them all for long
    page.evaluate(
        """([project, photo]) => { for (let k = 0; k < 40; k++)
            new Image().src = `/api/v1/projects/${project}/photos/full?path=${photo}&side=${300 + k}` }""",
        [built, api(address, f"/api/v1/projects/{built}/photos")[0]["path"]],
    )
    stop.click()
    expect(page.locator("footer")).to_contain_text("Stopped. What was finished is kept.", timeout=20_000)
    send(address, f"/api/v1/projects/{built}/layers/points/settings", "PUT", SMALL["points"])


def test_nothing_is_asked_of_another_host_and_nothing_breaks(page: Page, address: str, built: int) -> None:
    """Every layer, with what it draws and fetches; a stranger that is planted is seen, so that this can fail."""
    before, page.errors[:] = page.asked, []  # type: ignore[attr-defined]
    for layer in ("plan", "photos", "masks", "cameras", "points", "surface", "texture", "finish", "dispatch"):
        page.goto(f"{address}/projects/{built}/{layer}")
        expect(page.locator(".bed.on")).to_be_visible()
        quiet(page)
    assert page.asked - before > 50  # type: ignore[attr-defined]
    assert page.strangers == []  # type: ignore[attr-defined]
    assert page.errors == []  # type: ignore[attr-defined]
    # the page itself may not ask anywhere else, and what does is noted
    elsewhere = "http://127.0.0.2:9/planted"
    assert page.evaluate(f"() => fetch('{elsewhere}').then(() => 'came through', () => 'kept in')") == "kept in"
    page.strangers.clear()  # type: ignore[attr-defined]
    with pytest.raises(PageError):
        page.goto(elsewhere)
    page.wait_for_url("chrome-error://chromewebdata/")  # the browser's own page about it comes a little later
    assert page.strangers == [elsewhere]  # type: ignore[attr-defined]
    page.strangers.clear()  # type: ignore[attr-defined]
