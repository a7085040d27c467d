"""The whole way once, in a real browser on the real server: from lights that lack flats to a slip that fits."""

from __future__ import annotations

import gzip
import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import expect, sync_playwright

from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.web.server import Server

pytestmark = pytest.mark.browser
# The way is tried here, not how fast it goes: that is measured by the benches.
expect.set_options(timeout=60_000)
STATIC = Path(__file__).parents[2] / "src/grayshelf/web/static"
FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip

# Keys one right after the other: between two of them the page has no more time than its event ends with.
STRIKE = """async (keys) => {
  for (const key of keys) {
    window.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true, cancelable: true }));
    await null; await null; await null; await null;
  }
}"""


@pytest.fixture(scope="module")
def server(demo_folder):
    running = Server(demo_folder, rate=600.0).start()
    yield running
    running.kill()


@pytest.fixture(scope="module")
def browser():
    with sync_playwright() as play:
        opened = play.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield opened
        opened.close()


@pytest.fixture
def page(browser, server):
    """A page that minds every error in its console and every request that leaves this machine."""
    opened = browser.new_page(
        viewport={"width": 1280, "height": 800}, color_scheme="light", reduced_motion="reduce"
    )
    opened.set_default_timeout(60_000)
    troubles: list[str] = []
    # A refusal (400) is a part of the way: the page tells it in words, and the browser notes it.
    opened.on(
        "console", lambda m: troubles.append(m.text) if m.type == "error" and "400" not in m.text else None
    )
    opened.on("pageerror", lambda e: troubles.append(str(e)))
    opened.on(
        "request",
        lambda r: (
            None if r.url.startswith((server.url, "data:", f"blob:{server.url}")) else troubles.append(r.url)
        ),
    )
    opened.goto(server.url)
    # A key that comes before the page is there is nobody's: it has found its first place by then.
    opened.wait_for_url("**/tonight")
    yield opened
    opened.close()
    assert not troubles, troubles


def test_a_night_is_priced_before_it_begins_and_its_lights_are_kept_by_a_list(page, server):
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


def test_from_lights_that_lack_flats_to_a_slip_that_fits(page, tmp_path):
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


def test_keys_search_themes_and_a_phone(page, server):
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


def test_between_a_phone_and_a_desk_nothing_is_out_of_the_page(page, server):
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


def test_what_no_header_tells_is_asked_on_the_slip_and_kept(page):
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


def test_the_bench_from_a_choice_of_gains_to_a_kept_value(page):
    expect(page.get_by_role("link", name="4 Bench")).to_be_visible()
    page.keyboard.press("4")
    # The scenario's own look at gain 100, from frames on disk, stands there already.
    expect(
        page.get_by_role("img", name=re.compile("Levels of bias frames against offset at gain 100"))
    ).to_be_visible()
    expect(page.get_by_text("Offset 30 was never checked at gain 200")).to_be_visible()
    page.get_by_role("button", name="Measure again").click()
    page.get_by_role("checkbox", name=re.compile("gain 100")).uncheck()
    page.get_by_role("button", name=re.compile("Shoot about 49 frames")).click()
    page.get_by_role("button", name="The cap is on").click()
    expect(page.get_by_role("progressbar", name="Offset of Dunlin M24 at gain 200")).to_be_visible()
    keep = page.get_by_role("button", name=re.compile("Keep offset .* for gain 200"))
    keep.wait_for(timeout=120_000)
    expect(page.get_by_text(re.compile("Confirmed: no good pixel at zero in"))).to_be_visible()
    found = page.get_by_label("Another offset").locator("output")
    answer = int(found.inner_text())
    # Lower: it would clip, and says so at once; by button and by key.
    for _ in range(answer - 4):
        page.keyboard.press("[")
    expect(found).to_have_text("4")
    expect(page.get_by_text(re.compile("Clips .* good pixels in every frame"))).to_be_visible()
    page.get_by_role("button", name="One higher").click()
    expect(found).to_have_text("5")
    page.get_by_role("button", name=f"Back to {answer}").click()
    keep.click()
    expect(page.get_by_role("button", name="Kept for gain 200", exact=True)).to_be_disabled()
    expect(page.get_by_text("Offset 30 was never checked at gain 200")).to_be_hidden()
    for label, start in (("SVG", b"<svg"), ("PNG", b"\x89PNG")):
        with page.expect_download() as download:
            page.get_by_role("button", name=label, exact=True).click()
        content = Path(download.value.path()).read_bytes()
        assert content.startswith(start) and len(content) > 20_000, label
    page.get_by_role("button", name="Throw them away").click()
    page.get_by_role("button", name="Take them back").click()
    expect(page.get_by_text(re.compile(r"\d+ frames kept"))).to_be_visible()

    page.get_by_role("button", name="Gain", exact=True).click()
    page.get_by_label("another gain").fill("150")
    page.get_by_role("button", name="Add").click()
    expect(page.get_by_role("button", name=re.compile("Shoot about 290 frames"))).to_be_visible()
    page.get_by_role("button", name="Measure these").click()
    expect(page.get_by_role("heading", name="Photon transfer, gain 100, a quick estimate")).to_be_visible()


def test_flat_settings_from_nothing_to_a_whole_rig(page, server):
    # What other tests found of this rig is let go of.
    for row in server.get("/api/rigs/1/flats")["rows"]:
        for item in row["history"]:
            server.post(f"/api/rigs/1/flats/settings/{item['id']}/take-back")
    page.keyboard.press("4")
    page.get_by_role("button", name="Flat exposure").click()
    page.get_by_role("button", name="Find all 7 settings").click()
    page.get_by_role("button", name="It is there: begin").click()
    hang = page.get_by_role("button", name="Neutral film hangs: try again")
    hang.wait_for(timeout=120_000)
    # The others are found; L says why it is not, and what hangs at hand.
    expect(page.get_by_role("row", name=re.compile("^SII, gain 200.*: .*s$"))).to_be_visible()
    expect(page.get_by_text("L cannot get dim enough")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("^L, gain 100"))).to_contain_text("too bright, 1.5 stops")
    hang.click()
    expect(page.get_by_text("7 of 7 settings found")).to_be_visible(timeout=120_000)
    page.get_by_role("row", name=re.compile("^SII, gain 200")).click()
    expect(page.get_by_role("img", name=re.compile("Level against exposure, . test shots"))).to_be_visible()
    expect(page.get_by_text(re.compile(r"bands (under )?0\.\d+ %"))).to_be_visible()
    page.keyboard.press("[")
    expect(page.get_by_role("row", name=re.compile("^OIII, gain 200"))).to_have_attribute(
        "aria-current", "true"
    )
    # However fast keys are struck, each acts on what the one before it did: back to the first row, and one on.
    page.evaluate(STRIKE, ["["] * 7 + ["]"])
    second = page.get_by_role("table", name="Flat settings").locator("[role=row][aria-current]").nth(1)
    expect(second).to_have_attribute("aria-current", "true")
    page.evaluate(STRIKE, ["]"] * 2)
    fourth = page.get_by_role("table", name="Flat settings").locator("[role=row][aria-current]").nth(3)
    expect(fourth).to_have_attribute("aria-current", "true")
    # Many rows at once, on the whole sheet.
    page.get_by_role("button", name="Whole sheet").click()
    for code in ("Ha", "OIII", "SII"):
        page.get_by_role("checkbox", name=re.compile(f"Choose {code},")).check()
    page.get_by_role("button", name="Change 3 rows").click()
    page.get_by_label("Dark flats", exact=True).fill("40")
    page.get_by_role("button", name="Keep for 3 rows").click()
    expect(page.get_by_text("25 + 40")).to_have_count(3)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("25 + 40")).to_have_count(0)
    with page.expect_download() as download:
        page.get_by_role("link", name="Save the sheet as CSV").click()
    assert "neutral film" in Path(download.value.path()).read_text()
    page.get_by_role("button", name="Light", exact=True).click()
    expect(page.get_by_role("heading", name="Lumen tile was never measured")).to_be_visible()
    page.get_by_role("button", name="Measure Lumen tile").click()
    page.get_by_role("button", name="Measure Lumen tile").first.click()
    page.get_by_role("button", name="It is there: begin").click()
    page.get_by_role("button", name="Neutral film hangs: go on").click(timeout=60_000)
    expect(page.get_by_role("img", name="Output of Lumen tile against its brightness")).to_be_visible()
    expect(page.get_by_role("heading", name="How Lumen tile follows its brightness")).to_be_visible(
        timeout=60_000
    )
    # What was done is entered with its day; what it makes stale says so, and it is taken back.
    page.get_by_label("Kind of event").select_option(label="Re-spaced")
    page.get_by_role("button", name="Enter it").click()
    page.get_by_role("button", name="Searches").click()
    expect(page.get_by_text("the spacing was changed since")).to_have_count(7)
    page.get_by_role("button", name="Light", exact=True).click()
    page.get_by_role("button", name="Take back: the spacing was changed").click()
    # One row alone, by its brightness.
    page.get_by_role("button", name="Searches").click()
    expect(page.get_by_text("the spacing was changed since")).to_have_count(0)
    page.get_by_role("row", name=re.compile("^SII, gain 200")).click()
    page.get_by_label("What is looked for").select_option(label="the brightness; time stays")
    page.get_by_label("Exposure for all that are started now").fill("3")
    page.get_by_role("button", name="Only SII").click()
    page.get_by_role("button", name="It is there: begin").click()
    expect(page.get_by_role("row", name=re.compile("^SII, gain 200.*: 3\\ss$"))).to_be_visible(
        timeout=120_000
    )
    expect(page.get_by_role("img", name=re.compile("Level against brightness, 1 test shots"))).to_be_visible()


def test_a_watched_folder_tells_another_camera_program_what_to_shoot(page, server, tmp_path):
    for row in server.get("/api/rigs/1/flats")["rows"]:
        for item in row["history"]:
            server.post(f"/api/rigs/1/flats/settings/{item['id']}/take-back")
    page.goto(f"{server.url}/bench/flats?view=sheet")
    for code in ("OIII", "SII"):
        page.get_by_role("checkbox", name=re.compile(f"Choose {code},")).check()
    page.get_by_role("button", name="Watch a folder").click()
    folder = page.get_by_label("Folder that your camera program writes to")
    start = page.get_by_role("button", name="Find OIII, SII")
    expect(start).to_be_disabled()
    folder.fill(str(tmp_path / "nowhere"))
    start.click()
    expect(page.get_by_role("alert")).to_contain_text("nowhere")
    folder.fill(str(tmp_path))
    start.click()
    page.get_by_role("button", name="Searches").click()
    # It is read from afar, on a phone beside the telescope: one line, and what is wrong with a frame.
    page.set_viewport_size({"width": 390, "height": 844})
    line = page.get_by_role("heading", name=re.compile(r"^Shoot one flat of [\d.]+\ss$"))
    expect(line).to_be_visible()
    detail = page.get_by_text(re.compile("^(OIII|SII), gain 200, offset 30, binning 1"))
    first = detail.inner_text().split(",")[0]
    second = {"OIII": "SII", "SII": "OIII"}[first]
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    write_fits(tmp_path / "a light.fits", LIGHT)
    expect(page.get_by_role("alert")).to_contain_text("a light.fits It is a light, not a flat")
    # A filter that is not in the drawer tonight is left out, and the other one goes on.
    page.get_by_role("button", name=f"Leave {first} out").click()
    expect(detail).to_contain_text(second)
    found = page.get_by_role("row", name=re.compile(rf"^{second}, gain 200.*: [\d.]+\ss$"))
    shots = 0
    while shots < 4 and not found.count():
        asked = line.inner_text()
        seconds = float(re.findall(r"[\d.]+", asked)[0])
        pixels = np.random.default_rng(shots).normal(min(500 + 4600 * seconds, 65535), 30, (60, 80))
        cards = {**FLAT, "FILTER": second, "EXPTIME": seconds}
        write_fits(tmp_path / f"flat {shots}.fits", cards, pixels.clip(0, 65535).astype(np.uint16))
        shots += 1
        expect(found.or_(line.filter(has_not_text=asked))).to_be_visible()
    expect(found).to_be_visible()
    expect(line).to_be_hidden()
    answer = float(re.findall(r": ([\d.]+)", found.get_attribute("aria-label"))[0])
    assert 500 + 4600 * answer == pytest.approx(29_491, rel=0.02)
    assert shots <= 3


def test_flats_of_the_twilight_sky_from_the_layout_to_the_shelf(page):
    page.keyboard.press("4")
    page.get_by_role("button", name="Flat exposure").click()
    page.get_by_role("button", name="Twilight", exact=True).click()
    each = page.get_by_label("Flats of each filter")
    expect(each).to_be_visible()
    for code in ("R", "G", "B", "OIII", "SII"):
        # Ticks count at once, however late the layout comes.
        page.get_by_role("checkbox", name=re.compile(f"^{code}, ")).uncheck()
    each.fill("5")
    page.get_by_role("button", name="Shoot these 10 flats").click()
    page.get_by_role("button", name="It stands there: wait for the sky").click()
    expect(page.get_by_text(re.compile("^Waiting for (L|Ha)"))).to_be_visible()
    expect(page.get_by_role("heading", name=re.compile("10 of 10 flats"))).to_be_visible(timeout=200_000)
    expect(page.get_by_text("10 flats of the sky, 2 masters built")).to_be_visible(timeout=120_000)
    expect(page.get_by_role("img", name=re.compile("L .* to "))).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Frames CSV").click()
    assert Path(download.value.path()).read_text().count(",flat,") == 10
    page.keyboard.press("2")
    page.get_by_role("button", name="Flats", exact=True).click()
    expect(page.locator('[data-spine][aria-label*="Sky flat"]')).to_have_count(2)


def test_a_server_that_went_away_is_said_and_a_new_library_says_what_to_do_first(browser, server, tmp_path):
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


def test_a_picture_is_looked_at_closely(page, server):
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


def test_the_shelf_is_filled_in_the_time_there_is(page):
    close = page.get_by_role("button", name=re.compile("^Close (it|the run)"))
    fill = page.get_by_role("button", name="Fill the shelf")
    page.keyboard.press("1")
    # On a busy machine the sheet, or the run that ended, takes its time.
    fill.or_(close).first.wait_for()
    if close.is_visible():
        close.click()
    fill.first.click()
    page.get_by_label("What ends it").select_option("hours")
    page.get_by_label("Hours").fill("4")
    # What cannot be is said where it is typed; a ladder puts its rungs on the wall, and a press takes one off.
    page.get_by_label("exposures").fill("soon")
    page.get_by_label("set points").fill("−5")
    page.get_by_role("button", name="Lay it").click()
    expect(page.get_by_role("alert")).to_contain_text("no ladder of exposures")
    page.get_by_label("exposures").fill("1, 2 s")
    page.get_by_role("button", name="Lay it").click()
    one = page.get_by_role("button", name=re.compile("Dark 1.s, −5.*will be shot"))
    two = page.get_by_role("button", name=re.compile("Dark 2.s, −5"))
    expect(one).to_be_visible()
    two.click()
    expect(two).to_have_attribute("aria-pressed", "false")
    page.reload()
    expect(two).to_have_attribute("aria-pressed", "false")
    one.focus()
    page.get_by_label("Frames", exact=True).fill("6")
    expect(page.get_by_role("button", name=re.compile("Dark 1.s, −5.*: 6 will be shot"))).to_be_visible()
    start = page.get_by_role("button", name=re.compile("^Shoot .*darks"))
    expect(start).to_be_enabled()
    start.click()
    page.get_by_role("button", name=re.compile("The cap is on")).first.click()
    # While it goes on: what has not begun is left out, and it ends after what is being shot.
    page.get_by_role("button", name="What comes").click()
    expect(page.get_by_role("heading", name="Still to come")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Finish this one and stop")).click()
    expect(page.get_by_role("heading", name="Now on the shelf")).to_be_visible(timeout=120_000)
    close.click()
    expect(page.get_by_role("button", name="Fill the shelf").first).to_be_visible()
