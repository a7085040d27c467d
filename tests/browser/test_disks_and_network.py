"""Frames dropped onto the page, looked at, packed and thrown away; and a phone in another room, let in and sent out."""

from __future__ import annotations

import re

import numpy as np
import pytest
from playwright.sync_api import expect

from grayshelf.clock import SimulatedClock
from grayshelf.demo.rigs import START
from tests.browser.demo_pages import browser
from tests.helpers import DARK, LIGHT, write_fits
from tests.served import ServedRig
from tests.web.server import OwnServer

__all__ = ["browser"]
pytestmark = pytest.mark.browser
COUNT = 5


class Lan(OwnServer):
    """Served to this network, too."""

    def asked(self) -> list[str]:
        return [*super().asked(), "--lan"]


@pytest.fixture
def own(tmp_path):
    running = Lan(tmp_path / "library").start()
    yield running
    running.kill()


def open_page(browser, url, **context):
    page = browser.new_context(**context).new_page()
    page.set_default_timeout(60_000)
    page.troubles = []
    page.on("pageerror", lambda error: page.troubles.append(str(error)))
    page.goto(url)
    return page


def test_dropped_looked_at_packed_thrown_away_and_back(browser, own, tmp_path):
    night = tmp_path / "stick/night"
    rng = np.random.default_rng(8)
    for i in range(COUNT):
        cards = {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"}
        write_fits(night / f"d{i}.fits", cards, rng.normal(500, 6, (150, 150)).astype(np.uint16))
    (night / "notes.txt").write_text("seeing 3")
    page = open_page(browser, f"{own.url}/intake", viewport={"width": 1280, "height": 800})
    page.get_by_label("Folder to bring in").set_input_files(tmp_path / "stick")
    page.get_by_label("into the folder").fill(str(tmp_path / "frames"))
    page.get_by_role("button", name="Bring them in").click()
    expect(page.get_by_text(f"{COUNT} files came in whole")).to_be_visible()
    expect(page.get_by_text("notes.txt: It is no frame by its name.")).to_be_visible()
    assert sorted(p.read_bytes() for p in (tmp_path / "frames").rglob("*.fits")) == sorted(
        p.read_bytes() for p in night.glob("*.fits")
    )

    # Looked at before anything is decided: what was read, and the header.
    page.get_by_role("button", name=re.compile("Look at the dark")).click()
    expect(page.get_by_label("What is known of it")).to_contain_text("300")
    page.get_by_label("Find in the header").fill("instrume")
    expect(page.get_by_label("Header", exact=True)).to_contain_text("Dunlin M24")
    page.go_back()
    page.get_by_role("button", name="Combine 1 set into a master").click()
    expect(page.get_by_role("cell", name="combined")).to_be_visible(timeout=90_000)

    page.get_by_role("link", name="Room on the disks").click()
    raw = page.get_by_label("Raw frames", exact=True)
    raw.get_by_role("checkbox").first.check()
    page.get_by_role("button", name=f"Pack {COUNT} frames").click()
    expect(page.get_by_text(f"{COUNT} packed").first).to_be_visible()
    raw.get_by_role("checkbox").first.check()
    page.get_by_role("button", name="throw away", exact=True).click()
    expect(page.get_by_label("What is lost by it")).to_contain_text("could not be built anew")
    page.get_by_role("button", name=f"Throw away {COUNT} frames").click()
    expect(page.get_by_text(f"{COUNT} put aside")).to_be_visible()
    assert not list((tmp_path / "frames").glob("stick/**/*.fz"))
    page.get_by_role("button", name=re.compile("Take back: Thrown away")).click()
    back = page.get_by_text(re.compile(r"^brought back \d"))
    expect(back).to_have_count(1)
    page.get_by_role("button", name=re.compile("Take back: Packed")).click()
    expect(back).to_have_count(2)
    assert len(list((tmp_path / "frames").rglob("*.fits"))) == COUNT
    assert not page.troubles


#: What can be touched and is less than 44 pixels high (common practice for a thumb): its words, and how high it is.
SMALL = """() => [...document.querySelectorAll(
  'a[href], button, select, summary, textarea, input:not([type=checkbox], [type=radio]), label:has(> input)')]
  .map((e) => [e.innerText || e.ariaLabel || e.tagName, e.getBoundingClientRect()])
  .filter(([, r]) => r.width > 1 && r.height > 1 && r.height < 43.5).map(([words, r]) => [words, r.height])"""


def test_a_phone_in_another_room_gives_the_code_and_is_sent_out(browser, own):
    access = own.get("/api/access")
    if not access["addresses"]:
        pytest.skip("this machine is in no network")
    url = f"http://{access['addresses'][0]}:{own.port}"
    phone = open_page(browser, f"{url}/nights", viewport={"width": 390, "height": 800}, has_touch=True)
    phone.get_by_label("Access code").fill("0000-0000-0000")
    phone.get_by_role("button").tap()
    expect(phone.get_by_role("alert")).to_contain_text("not the code")
    phone.get_by_label("Access code").fill(access["code"].lower())
    phone.get_by_role("button").tap()
    expect(phone.get_by_text("Intake").last).to_be_visible()
    for place in ("shelf", "nights", "bench", "intake", "rigs", "tonight"):
        phone.goto(f"{url}/{place}")
        expect(phone.get_by_text("Intake").last).to_be_visible()
        expect(phone.get_by_role("heading", level=1).first, f"{place} says what it is").to_be_visible()
        assert phone.evaluate("document.documentElement.scrollWidth") <= 390, place
        assert phone.evaluate(SMALL) == [], f"{place}: what is touched is as large as a thumb"
    desk = open_page(browser, f"{own.url}/rigs", viewport={"width": 1280, "height": 800})
    desk.get_by_role("button", name=re.compile("End the session of")).click()
    expect(phone.get_by_label("Access code")).to_be_visible()
    assert access["code"] not in phone.url and not phone.troubles and not desk.troubles


def test_devices_are_asked_and_chosen_and_nights_are_fetched_from_the_other_room(browser, own, tmp_path):
    night = tmp_path / "night"
    for i in range(COUNT):
        write_fits(night / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"})
    lights = {**LIGHT, "DATE-OBS": "2026-10-18T23:00:00"}
    write_fits(night / "light.fits", lights)
    own.post("/api/folders", {"path": str(night)})
    own.until(lambda: not own.get("/api/jobs")["alive"], 60)
    served = ServedRig(SimulatedClock(START, 60.0))
    page = open_page(browser, f"{own.url}/rigs?part=camera", viewport={"width": 1280, "height": 900})
    devices = page.get_by_role("region", name="Devices", exact=True)
    devices.get_by_label("Address of the devices’ program").fill("127.0.0.1:1")
    devices.get_by_role("button", name="Ask there").click()
    expect(devices.get_by_text("Nothing answers at http://127.0.0.1:1.")).to_be_visible()
    devices.get_by_label("Address of the devices’ program").fill(served.address)
    devices.get_by_role("button", name="Ask there").click()
    devices.get_by_role("button", name="Use as camera").first.click()
    expect(devices.get_by_text("it is this rig’s camera now")).to_be_visible()
    # What it says of itself, and what of that its lights say otherwise: they are no frames of this size.
    parts = devices.get_by_label("Parts and their devices")
    expect(parts).to_contain_text("gain 0 to 400")
    expect(parts).to_contain_text("It says 320 × 214 pixels; its lights have 24 × 24.")
    devices.get_by_role("button", name="Use as filter wheel").click()
    expect(parts).to_contain_text("7 places: L, R, G, B, Ha, OIII, SII")
    devices.get_by_role("button", name="Let the filter wheel go").click()
    expect(parts).not_to_contain_text("7 places")
    assert not page.troubles
    served.cut_off()

    # Another library on this machine fetches what is new here.
    indoors = OwnServer(tmp_path / "indoors" / "library")
    (tmp_path / "indoors").mkdir()
    indoors.start()
    try:
        page = open_page(browser, f"{indoors.url}/intake", viewport={"width": 390, "height": 844})
        page.get_by_role("link", name="From another Gray Shelf").click()
        page.get_by_label("Its address").fill(own.url.removeprefix("http://"))
        page.get_by_role("button", name="Add it").click()
        expect(page.get_by_text("6 frames are new there")).to_be_visible()
        page.get_by_role("button", name="Fetch all of it").click()
        expect(page.get_by_text(re.compile("6 frames fetched from"))).to_be_visible(timeout=120_000)
        expect(page.get_by_text("Nothing is new there.")).to_be_visible()
        assert page.evaluate("document.documentElement.scrollWidth") <= 390
        assert not page.troubles
    finally:
        indoors.kill()
