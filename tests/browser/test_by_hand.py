"""From an empty library, without devices, on a phone: a rig described, and a sheet shot by another program's folder."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from tests.browser.demo_pages import browser
from tests.other_program import SPELLED, Program, write_lights
from tests.web.server import OwnServer

__all__ = ["browser"]
pytestmark = pytest.mark.browser


@pytest.fixture
def own(tmp_path):
    running = OwnServer(tmp_path / "library").start()
    yield running
    running.kill()


@pytest.fixture
def page(browser, own):
    opened = browser.new_page(viewport={"width": 1280, "height": 800})
    opened.set_default_timeout(60_000)
    troubles: list[str] = []
    opened.on("pageerror", lambda e: troubles.append(str(e)))
    opened.goto(own.url)
    yield opened
    opened.close()
    assert not troubles, troubles


def seen(page) -> tuple[str, dict[str, str]]:
    """What the page says to do next, at one moment, and what to set, as it is copied."""
    found = page.evaluate(
        """() => {
            const next = document.querySelector("[aria-label='What to do next']");
            const copies = [...document.querySelectorAll("button[aria-label^='Copy ']")];
            return [next ? next.innerText : "", copies.map((b) => b.getAttribute("aria-label"))];
        }"""
    )
    return found[0], dict(label.removeprefix("Copy ").split(": ", 1) for label in found[1])


def test_what_was_kept_of_the_site_is_said_and_a_typed_name_stays_when_the_rig_comes_in_beneath_it(
    page, own, tmp_path
):
    write_lights(tmp_path / "lights", SPELLED)
    page.goto(f"{own.url}/intake")
    page.get_by_label("A folder on this machine").fill(str(tmp_path / "lights"))
    page.keyboard.press("Enter")
    expect(page.get_by_text("8 lights.")).to_be_visible()

    # The clock of the site is set, and what came of it is said.
    page.get_by_label("Time zone", exact=True).fill("Europe/Oslo")
    page.get_by_role("button", name="Count nights by this clock").click()
    expect(page.get_by_text("Nights are counted at Europe/Oslo;")).to_be_visible()

    def before_the_rig(route):
        told = route.fetch().json()
        route.fulfill(json={**told, "rigs": []})

    page.route("**/api/state", before_the_rig)
    page.goto(f"{own.url}/rigs")
    name = page.get_by_label("Name of Kite 9 on Field lens, 300 mm")
    name.fill("Balcony")
    page.unroute("**/api/state")
    # The page asks again by itself, every ten seconds.
    expect(page.get_by_role("button", name="Rig: Field lens Kite 9")).to_be_visible(timeout=20_000)
    expect(name).to_have_value("Balcony")


def test_from_nothing_to_a_slip_that_fits_by_any_hands(page, own, tmp_path):
    write_lights(tmp_path / "lights", SPELLED)
    camera = tmp_path / "camera"
    camera.mkdir()
    program = Program(camera)

    # Named, scanned, and a rig is proposed that the headers of two programs tell of: it is named and kept.
    page.goto(f"{own.url}/intake")
    page.get_by_label("A folder on this machine").fill(str(tmp_path / "lights"))
    page.keyboard.press("Enter")
    expect(page.get_by_text("8 lights.")).to_be_visible()
    page.keyboard.press("Escape")
    page.goto(f"{own.url}/rigs")
    expect(
        page.get_by_role("heading", name="One rig is proposed from your headers.", level=1)
    ).to_be_visible()
    expect(page.get_by_role("heading", name="Kite 9 on Field lens, 300 mm")).to_be_visible()
    expect(page.get_by_text("camera Kite 9, also written KITE-9, 4 frames")).to_be_visible()
    page.get_by_label("Name of Kite 9 on Field lens, 300 mm").fill("Balcony")
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_role("heading", name="Balcony", level=1)).to_be_visible()
    expect(page.get_by_text("tonight’s sheet is for your own hands")).to_be_visible()

    # The light is described; what cannot be is said where it is typed.
    page.get_by_role("button", name=re.compile("^Light")).click()
    page.get_by_label("Name", exact=True).fill("the wall")
    page.get_by_label("Lowest brightness").fill("9")
    page.get_by_label("Highest brightness").fill("3")
    page.get_by_role("button", name="Keep this light").click()
    expect(page.get_by_role("alert")).to_contain_text("Brightness goes from a lowest whole number")
    page.get_by_label("Its brightness can be set").uncheck()
    page.get_by_role("button", name="Keep this light").click()
    expect(page.get_by_role("button", name=re.compile("^Light.*the wall"))).to_be_visible()
    expect(page.get_by_role("status").filter(has_text="Kept: name the wall")).to_be_visible()

    # What is typed is told as it was kept, and is taken back on the spot.
    page.get_by_role("button", name=re.compile("^Telescope")).click()
    focal = page.get_by_label("Focal length, with the reducer")
    focal.fill("240")
    page.get_by_role("button", name="Keep this").click()
    expect(page.get_by_text("Kept: focal length 240 mm (300 mm before).")).to_be_visible()
    page.get_by_role("button", name="Take it back").click()
    expect(page.get_by_text("Taken back: focal length 240 mm (300 mm before).")).to_be_visible()
    expect(focal).to_have_value("300")

    # The house rules say how many, and what that does is said before.
    page.keyboard.press("Escape")
    page.get_by_role("spinbutton", name="… flats in each filter").fill("4")
    page.get_by_role("spinbutton", name="… dark flats under them").fill("3")
    expect(page.get_by_text("How many: 4 flats in each filter (25 before)")).to_be_visible()
    page.get_by_label("Reason for the change").fill("a small trial")
    page.get_by_role("button", name="Keep these rules").click()
    expect(page.get_by_text(re.compile("usual 25; since .*: a small trial")).first).to_be_visible()

    # On a phone at the telescope.
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto(f"{own.url}/tonight")
    page.get_by_label("The folder that your program writes into").fill(str(tmp_path / "nowhere"))
    start = page.get_by_role("button", name="Shoot 4 flats in 2 filters yourself")
    start.click()
    expect(page.get_by_role("alert")).to_contain_text("nowhere")
    page.get_by_label("The folder that your program writes into").fill(str(camera))
    start.click()
    line = page.get_by_role("region", name="What to do next")
    expect(line).to_contain_text("one test flat of")
    assert page.evaluate("document.documentElement.scrollWidth") <= 390

    wrong = {"gain": 100}, {"binning": 2}, {"angle": 52.0}, {"focus": 4100}
    says = (
        "gain 100; the lights have 120",
        "binning 2; the lights have 1",
        "camera sat at 52.0°",
        "focus was at 4,100",
    )
    ended = page.get_by_role("heading", name="The run is done.")
    told = False
    for _ in range(60):
        if ended.count():
            break
        asked, set_to = seen(page)
        if "exposure" not in set_to:
            page.wait_for_timeout(200)
            continue
        program.set["filter"] = set_to.get("filter", "R")
        if "flats of" in asked and "dark" not in asked and not told:
            # Each mistake is told within five seconds, on the page that is in the hand.
            for change, sentence in zip(wrong, says, strict=True):
                program.shoot("FLAT", float(set_to["exposure"]), **change)
                expect(page.get_by_role("alert")).to_contain_text(sentence, timeout=5_000)
            told = True
            asked = seen(page)[0]
        program.shoot("DARKFLAT" if "dark flat" in asked else "FLAT", float(set_to["exposure"]))
        page.wait_for_function(
            """(asked) => {
                const next = document.querySelector("[aria-label='What to do next']");
                return !next || next.innerText !== asked;
            }""",
            arg=asked,
        )
        page.wait_for_timeout(500)
    expect(ended.first).to_be_attached()
    assert told
    used = own.get("/api/sets?kind=flat")["items"]
    assert {x["state"] for x in used if x["n_frames"] >= 4} >= {"master"}
    lights = own.get("/api/sets?kind=light")["items"]
    for one in lights:
        lines = {x["kind"]: x["verdict"] for x in own.get(f"/api/lights/{one['id']}/slip")["lines"]}
        assert lines["flat"] == "fits", lines
