"""The Bench, flats and filling, driven in the browser from a choice to what is kept."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import expect

from tests.browser.demo_pages import browser, page, server  # noqa: F401
from tests.helpers import FLAT, LIGHT, write_fits

pytestmark = pytest.mark.browser

# Keys one right after the other: between two of them the page has no more time than its event ends with.
STRIKE = """async (keys) => {
  for (const key of keys) {
    window.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true, cancelable: true }));
    await null; await null; await null; await null;
  }
}"""


def test_the_bench_from_a_choice_of_gains_to_a_kept_value(page):  # noqa: F811
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


def test_flat_settings_from_nothing_to_a_whole_rig(page, server):  # noqa: F811
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


def test_a_watched_folder_tells_another_camera_program_what_to_shoot(page, server, tmp_path):  # noqa: F811
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


def test_flats_of_the_twilight_sky_from_the_layout_to_the_shelf(page):  # noqa: F811
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


def test_the_shelf_is_filled_in_the_time_there_is(page):  # noqa: F811
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
