"""The whole way once, in a real browser on the real server: from lights that lack flats to a slip that fits."""

from __future__ import annotations

import gzip
import re
from pathlib import Path

import pytest
from playwright.sync_api import expect

from tests.browser.demo_pages import browser, page, server  # noqa: F401
from tests.helpers import DARK, LIGHT, write_fits
from tests.web.server import Server

pytestmark = pytest.mark.browser


# The way is tried here, not how fast it goes: that is measured by the benches.
expect.set_options(timeout=60_000)


STATIC = Path(__file__).parents[2] / "src/grayshelf/web/static"


def test_a_night_is_priced_before_it_begins_and_its_lights_are_kept_by_a_list(page, server):  # noqa: F811
    page.goto(server.url + "/tonight?before=1")
    both, broad = page.get_by_role("region", name="Both"), page.get_by_role("region", name="Broad only")
    headline = re.compile(r"of flats; you are needed (once|twice|\d+ times)\.")
    expect(both.get_by_text(headline)).to_be_visible()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Both costs")
    # Turned between two targets, with the flats before the turn: needed more often, and that is said at the top.
    both.get_by_role("checkbox", name="the camera is turned before it").check()
    both.get_by_label("Where the flats go").select_option("before each turn of the camera")
    expect(both.get_by_text("between targets, when lights could be taken")).to_be_visible()
    expect(page.get_by_role("heading", level=1)).to_contain_text("hands more")
    # A filter pressed in for the whole night; a count that cannot be is said, and the other plan stays priced.
    broad.get_by_title("L on every target").click()
    expect(broad.get_by_label("Lights in L")).to_have_value("14")
    broad.get_by_label("Lights in L").fill("0")
    expect(broad.get_by_role("alert")).to_contain_text("L has 1 to")
    expect(both.get_by_text(headline)).to_be_visible()
    broad.get_by_label("Lights in L").fill("20")
    expect(broad.get_by_role("alert")).to_have_count(0)
    broad.get_by_role("button", name="Keep “Broad only”").click()
    kept = page.get_by_role("listitem").filter(has_text="foretold")
    expect(kept).to_contain_text("Broad only")
    page.set_viewport_size({"width": 390, "height": 844})
    assert page.evaluate("document.documentElement.scrollWidth") <= 390, "nothing scrolls sideways"
    page.set_viewport_size({"width": 1280, "height": 800})
    # What is not kept of a night, by a list of names, and back.
    page.goto(server.url + "/nights/2026-10-16")
    region = page.get_by_role("heading", name="Lights kept").locator("xpath=ancestor::section[1]")
    first = region.get_by_role("checkbox").first
    expect(first).to_be_visible()
    name = (
        region.get_by_role("listitem")
        .filter(has=page.locator("input:checked"))
        .first.inner_text()
        .split()[-1]
    )
    region.get_by_label("Names of lights, one a line").fill(f"{name}\nnowhere.fits")
    region.get_by_label("What the list says").select_option(label="these are not kept")
    region.get_by_role("button", name="Say so").click()
    expect(region.get_by_role("status")).to_contain_text("1 light changed, 1 name not among the lights")
    region.get_by_role("button", name="Take it back").click()
    expect(region.get_by_role("status")).to_contain_text("1 light changed")


def test_from_lights_that_lack_flats_to_a_slip_that_fits(page, tmp_path):  # noqa: F811
    # Tonight is the first place of a library that has something in it.
    expect(page.get_by_role("heading", name=re.compile("Done at .* You are needed twice"))).to_be_visible()
    for line in ("destination", "devices", "cooler"):
        expect(page.get_by_text(line, exact=True)).to_be_visible()

    # Darks go on after the last hand was needed: both ends are said and drawn, and a reload keeps what was chosen.
    dark = page.get_by_role("checkbox", name=re.compile("Dark 300.s, −5"))
    dark.check()
    both = page.get_by_role("heading", name=re.compile(r"Hands free at \d\d:\d\d, done at \d\d:\d\d"))
    expect(both).to_be_visible()
    page.reload()
    expect(both).to_be_visible()
    expect(dark).to_be_checked()
    expect(page.get_by_title(re.compile("Everything has ended at"))).to_be_visible()
    dark.uncheck()
    expect(both).to_be_hidden()

    # One's own frames come in by name, and what could not be read is listed with its reason.
    write_fits(
        tmp_path / "my frames" / "light é.fits",
        {**LIGHT, "INSTRUME": "My camera", "TELESCOP": "My telescope"},
    )
    write_fits(tmp_path / "my frames" / "dark.fits", {**DARK, "INSTRUME": "My camera", "EXPTIME": "abc"})
    (tmp_path / "my frames" / "notes.fits").write_text("no frame")
    page.keyboard.press("5")
    page.get_by_label("A folder on this machine").fill(str(tmp_path / "my frames"))
    page.keyboard.press("Enter")
    expect(page.get_by_text("1 light, 1 dark.")).to_be_visible()
    page.get_by_role("button", name=re.compile("To look at")).click()
    expect(page.get_by_text("The file does not begin as a FITS file does").first).to_be_visible()
    expect(page.get_by_text("EXPTIME is 'abc'")).to_be_visible()
    page.get_by_label("A folder on this machine").fill("/no/such/folder")
    page.get_by_role("button", name="Scan it").click()
    expect(page.get_by_role("alert")).to_contain_text("There is no folder")
    page.get_by_role("button", name="Rig: Heron 92 Dunlin M24").click()
    page.get_by_role("option", name=re.compile("My telescope")).click()
    page.get_by_role("heading", name=re.compile("frames .*read")).click()
    page.keyboard.press("3")
    expect(page.get_by_role("heading", name="Sunday 18 October 2026")).to_be_visible()
    page.get_by_role("button", name="Rig: My telescope My camera").click()
    page.get_by_role("option", name=re.compile("Heron 92")).click()

    # The shelf, walked and pulled by keys.
    page.get_by_role("heading", name="Sunday 18 October 2026").click()
    page.keyboard.press("2")
    slab = page.get_by_role("button", name=re.compile("^Dark 60 s, −10 °C, gain 100"))
    slab.focus()
    page.keyboard.press("ArrowRight")
    expect(page.locator(":focus")).to_have_attribute("aria-label", re.compile("gain 200"))
    page.keyboard.press("ArrowDown")
    expect(page.locator(":focus")).to_have_attribute("aria-label", re.compile("Dark|Gap"))
    slab.focus()
    page.keyboard.press("Enter")
    card = page.get_by_role("dialog", name="Dark 60 s, −10 °C, gain 100")
    expect(card.get_by_role("img", name=re.compile("^Picture of"))).to_be_visible()
    expect(card.get_by_text("Median", exact=True)).to_be_visible()
    page.keyboard.press("Escape")
    expect(card).to_be_hidden()
    expect(slab).to_be_focused()
    page.get_by_role("button", name="Flats", exact=True).click()
    gap = page.get_by_role("button", name=re.compile("^Gap: Flats of 18 Oct.*7 lights wait"))
    expect(gap).to_be_visible()

    # A night, its sets of lights, and the slip of those that lack flats.
    page.keyboard.press("3")
    page.get_by_role("button", name=re.compile("NGC 6888, SII")).click()
    slip = page.get_by_role("region", name="Pull slip: NGC 6888")
    expect(slip.get_by_text("nothing fits").first).to_be_visible()
    expect(slip.get_by_text("No flat fits these lights.")).to_be_visible()
    slip.get_by_role("button", name="Shoot it tonight").click()

    # Tonight: fewer frames, then the start, the gate, and the search as it goes.
    page.get_by_role("radio", name=re.compile("^10 frames")).click()
    page.get_by_role("button", name="Shoot 10 flats in 5 filters").click()
    page.get_by_role("button", name="The panel is on: begin").click()
    expect(page.get_by_role("heading", name=re.compile("^Shot|^Frame")).first).to_be_visible()
    expect(page.get_by_text("nothing is known yet: little light").first).to_be_visible()
    page.get_by_role("heading", level=1).click()
    page.keyboard.press("Space")
    expect(page.get_by_role("heading", name="Paused.")).to_be_visible()
    page.keyboard.press("Space")
    expect(page.get_by_role("heading", name="Paused.")).to_be_hidden()

    # One filter finds no answer: the stops are said, the diffuser is hung, and it is found.
    hung = page.get_by_role("button", name="It hangs: try L again")
    hung.wait_for(timeout=90_000)
    expect(page.get_by_text("1.5 stops are needed: hang neutral film").first).to_be_visible()
    # The filters before it tell where to begin: two shots, not three, say that it cannot be.
    expect(page.get_by_role("img", name=re.compile("Level against exposure for L, 2 shots"))).to_be_visible()
    hung.click()
    capped = page.get_by_role("button", name="The cap is on: shoot what needs the dark")
    capped.wait_for(timeout=120_000)
    page.keyboard.press(".")
    expect(page.get_by_role("complementary", name="Work in progress")).to_contain_text("waits for you")
    expect(page.get_by_label("Call me when a hand is needed")).to_be_visible()
    page.keyboard.press(".")
    # A tab in the background says so in its title.
    expect(page).to_have_title(re.compile("^● Cap on"))
    capped.click()
    page.get_by_role("button", name="Close the run").wait_for(timeout=120_000)
    expect(page).to_have_title("Gray Shelf")
    expect(page.get_by_text("100 frames shot, 10 masters built.").first).to_be_visible()
    expect(page.get_by_text("The cap is on: leave it.")).to_be_visible()

    # The gap on the shelf has closed, and the slip fits.
    page.keyboard.press("2")
    page.get_by_role("button", name="Flats", exact=True).click()
    expect(page.get_by_role("button", name=re.compile("^Flat SII, gain 200, 10 frames"))).to_be_visible()
    expect(gap).to_be_hidden()
    page.keyboard.press("3")
    page.get_by_role("button", name=re.compile("NGC 6888, SII.*: fits")).click()
    expect(slip.get_by_text("Everything these lights need is on the shelf.")).to_be_visible()
    with page.expect_download() as download:
        slip.get_by_role("link", name="CSV").click()
    assert "dark flat,chosen,fits" in Path(download.value.path()).read_text(encoding="utf-8-sig")


def test_keys_search_themes_and_a_phone(page, server):  # noqa: F811
    expect(page.get_by_role("heading", level=1).first).to_be_visible()
    page.keyboard.press("?")
    expect(page.get_by_role("heading", name="Keys")).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("/")
    page.keyboard.type("ngc 281")
    expect(page.get_by_role("listbox")).to_contain_text("NGC 281, Ha")
    page.keyboard.press("Enter")
    expect(page.get_by_role("region", name="Pull slip: NGC 281")).to_be_visible()
    page.get_by_role("button", name="Night", exact=True).click()
    assert page.evaluate("document.documentElement.dataset.theme") == "night"
    page.reload()
    assert page.evaluate("document.documentElement.dataset.theme") == "night", "the choice is kept"
    # Kept as they are typed, also by whoever leaves the night at once.
    page.get_by_label("Notes of this night").fill("Owls until two.")
    page.get_by_role("button", name="Months at a glance").click()
    expect(page.get_by_role("region", name="October 2026")).to_contain_text("7 nights")
    page.go_back()
    expect(page.get_by_label("Notes of this night")).to_have_value("Owls until two.")
    page.set_viewport_size({"width": 390, "height": 844})
    page.get_by_role("navigation", name="Places").last.get_by_role("button", name="Tonight").click()
    expect(page.get_by_role("heading", level=1).last).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= 390, "nothing scrolls sideways"
    page.get_by_role("button", name="Search", exact=True).click()
    page.keyboard.type("ngc 281")
    page.get_by_role("option").filter(has_text="NGC 281, Ha").first.click()
    expect(page.get_by_role("region", name="Pull slip: NGC 281")).to_be_visible()
    expect(page.get_by_label("Search frames, nights and targets")).to_be_hidden()


def test_between_a_phone_and_a_desk_nothing_is_out_of_the_page(page, server):  # noqa: F811
    """A tablet, and half of a window."""
    too_wide = """() => [document.documentElement, document.querySelector("main")]
      .map((box) => box.scrollWidth - box.clientWidth)"""
    for width in (768, 1024):
        page.set_viewport_size({"width": width, "height": 900})
        for place in ("tonight", "shelf", "nights", "bench", "intake", "rigs"):
            page.goto(f"{server.url}/{place}")
            expect(page.get_by_role("button", name="Night", exact=True)).to_be_in_viewport(ratio=1)
            expect(page.locator("main").get_by_role("button").first).to_be_visible()
            assert page.evaluate(too_wide) == [0, 0], f"{place} at {width}"
        # A slip has no room for its columns: each row's rulers stand below it, and nothing scrolls sideways.
        page.goto(f"{server.url}/nights")
        page.get_by_role("button", name=re.compile("Open the pull slip")).first.click()
        rows = page.get_by_role("region", name=re.compile("Pull slip")).locator("[data-stacked]")
        expect(rows).to_be_visible()
        assert rows.evaluate("(box) => box.scrollWidth - box.clientWidth") == 0, f"the slip at {width}"


def test_what_no_header_tells_is_asked_on_the_slip_and_kept(page):  # noqa: F811
    page.get_by_role("button", name=re.compile("^Rig:")).click()
    page.get_by_role("option", name=re.compile("Wader")).click()
    page.get_by_role("heading", level=1).click()
    page.keyboard.press("3")
    page.get_by_role("button", name=re.compile("M 33 in colour")).click()
    slip = page.get_by_role("region", name=re.compile("Pull slip"))
    expect(slip.get_by_text("Is this camera ever binned?")).to_be_visible()
    slip.get_by_role("button", name="Never", exact=True).click()
    expect(slip.get_by_text("Is this camera ever binned?")).to_be_hidden()
    slip.get_by_role("button", name=re.compile("Take back: binning")).click()
    expect(slip.get_by_text("Is this camera ever binned?")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Rig:")).click()
    page.get_by_role("option", name=re.compile("Heron 92")).click()


def test_a_server_that_went_away_is_said_and_a_new_library_says_what_to_do_first(browser, server, tmp_path):  # noqa: F811
    import subprocess
    import sys
    import urllib.request

    empty = Server(tmp_path / "x" / "y")
    command = [
        sys.executable,
        "-m",
        "grayshelf.cli",
        "serve",
        "--new",
        "--library",
        str(tmp_path / "library"),
    ]
    process = subprocess.Popen([*command, "--port", str(empty.port)], stdout=subprocess.DEVNULL)
    try:
        empty.until(lambda: _answers(urllib.request, empty.url))
        page = browser.new_page()
        refused: list[str] = []
        page.on("response", lambda r: refused.append(r.url) if r.status >= 400 else None)
        for place, said in (
            ("tonight", "Nothing to shoot yet"),
            ("nights", "No nights yet"),
            ("bench/flats", "No camera is known yet."),
        ):
            page.goto(f"{empty.url}/{place}")
            expect(page.get_by_role("heading", name=said)).to_be_visible()
        page.goto(empty.url)
        expect(page.get_by_role("heading", name="An empty shelf")).to_be_visible()
        assert not refused, "nothing is asked of a rig that is not there"
        page.get_by_role("link", name="Name a folder of frames").click()
        expect(page.get_by_role("heading", name="Name a folder of frames.")).to_be_visible()
        process.kill()
        process.wait()
        page.get_by_label("A folder on this machine").fill("/tmp")
        page.get_by_role("button", name="Scan it").click()
        expect(page.get_by_role("alert")).to_contain_text("Gray Shelf does not answer")
        page.close()
    finally:
        process.kill()


def _answers(urllib_request, url) -> bool:
    try:
        return urllib_request.urlopen(url + "/api/state", timeout=5).status == 200
    except OSError:
        return False


def test_the_script_is_under_300_kb_packed():
    packed = sum(len(gzip.compress(f.read_bytes())) for f in (STATIC / "assets").glob("*.js"))
    assert 0 < packed < 300_000


def test_a_picture_is_looked_at_closely(page, server):  # noqa: F811
    # The card of a master flat: its dust, and the picture as large as the window.
    page.goto(server.url + "/shelf?wall=flats")
    page.locator('[data-spine][aria-label^="Flat Ha"]').first.click()
    expect(page.get_by_role("heading", name=re.compile("^Dust: [1-9]"))).to_be_visible()
    page.keyboard.press("v")
    viewer = page.locator("[data-part=viewer]")
    expect(viewer.locator("svg circle").first).to_be_visible()
    # The levels under the pointer, a stretch by hand and back, a line through the picture.
    pane = viewer.get_by_role("application")
    box = pane.bounding_box()
    # The level is told where the pointer moves; a busy machine may not have the picture under it at the first move.
    for step in range(40):
        page.mouse.move(box["x"] + box["width"] / 2 + step % 2, box["y"] + box["height"] / 2)
        page.wait_for_timeout(250)
        if viewer.locator("[data-part=level]").is_visible():
            break
    expect(viewer.locator("[data-part=level]")).to_have_text(re.compile(r"^[0-9.]+ "))
    black = viewer.get_by_role("slider", name="Level that is black")
    before = float(black.get_attribute("aria-valuenow"))
    black.focus()
    page.keyboard.press("PageUp")
    assert float(black.get_attribute("aria-valuenow")) > before
    viewer.get_by_role("button", name="As at first").click()
    assert float(black.get_attribute("aria-valuenow")) == before
    viewer.get_by_role("button", name="row", exact=True).click()
    expect(viewer.get_by_role("img", name=re.compile("^Row [0-9]+"))).to_be_visible()
    # Nearer with the wheel, and all of it again; the marks away; another picture beside it.
    page.mouse.wheel(0, -600)
    page.keyboard.press("0")
    page.keyboard.press("m")
    expect(viewer.locator("svg circle")).to_have_count(0)
    viewer.get_by_role("button", name="nothing").click()
    page.get_by_role("option").nth(1).click()
    expect(viewer.get_by_role("application")).to_have_count(2)
    viewer.get_by_role("button", name="over", exact=True).click()
    expect(viewer.get_by_role("application")).to_have_count(1)
    page.keyboard.press("Escape")
    expect(viewer).to_have_count(0)
    expect(page.get_by_role("dialog", name=re.compile("^Flat Ha"))).to_be_visible()
    # A light before and after.
    page.goto(server.url + "/nights/2026-10-17")
    page.locator('[data-set][aria-label*=" R"]').first.click()
    page.get_by_role("button", name="Does it correct?").click()
    expect(page.locator("[data-part=correction]")).to_contain_text("Slope")
    expect(page.get_by_role("application")).to_have_count(2)
