"""Gear of other people has long names, and many temperatures: nothing lies over anything else, at either width, and all of it
is there for who does not see it, or little (Web Content Accessibility Guidelines 2.1, levels A and AA, by axe-core)."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.browser.demo_pages import browser
from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.web.server import OwnServer

__all__ = ["browser"]
pytestmark = pytest.mark.browser

TELESCOPE = "Corrected Dall-Kirkham 431 mm f/6.8 with 0.66x reducer and tilt unit"
CAMERA = "Large Format Monochrome Camera of 61 megapixels, number 0042 of its kind"
FILTERS = [
    "Photometric B, after Bessell",
    "Photometric V, after Bessell",
    "Hydrogen-alpha 3 nm, second batch",
]
OF_THE_RIG = {"INSTRUME": CAMERA, "TELESCOP": TELESCOPE}
#: Words within a page's rail that are drawn beyond the button or tab that holds them.
BEYOND = """() => [...document.querySelectorAll("header button, header a")].flatMap((held) => {
    const edge = held.getBoundingClientRect().right + 1;
    return [...held.querySelectorAll("*")].filter((e) => e.getBoundingClientRect().right > edge).map((e) => e.textContent);
})"""
#: Of each spine the room between its number and its foot; less than 0 where one lies over the other.
BETWEEN = """() => [...document.querySelectorAll("button[data-spine]")].map((spine) => {
    const [number, foot] = [spine.querySelector(".num"), spine.lastElementChild];
    return foot.getBoundingClientRect().top - number.getBoundingClientRect().bottom;
})"""
#: Of each column's filter how much of its stamp lies beyond its column.
CUT = """() => [...document.querySelectorAll("[role=gridcell]")].map((cell) => {
    const stamp = cell.querySelector("[title], .narrow").getBoundingClientRect();
    return stamp.right - cell.getBoundingClientRect().right;
})"""
AXE = Path(__file__).parents[2] / "frontend/node_modules/axe-core/axe.min.js"
#: What is drawn short on a spine is named whole: that rule wants the short words in the name.
BARRED = """async () => {
    const tags = { type: "tag", values: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"] };
    const rules = { "label-content-name-mismatch": { enabled: false } };
    const found = await axe.run(document, { runOnly: tags, rules, resultTypes: ["violations"] });
    return found.violations.map((v) => [v.id, v.nodes.map((n) => n.html.slice(0, 200))]);
}"""


@pytest.fixture
def own(tmp_path):
    running = OwnServer(tmp_path / "library").start()
    yield running
    running.kill()


def test_names_and_numbers_stand_clear_of_one_another(own, browser, tmp_path):
    for i, temp in enumerate((-20.0, -15.0, -10.0, -5.0, 0.0)):
        cold = {"CCD-TEMP": temp, "SET-TEMP": temp, "DATE-OBS": f"2026-10-18T1{i}:00:00"}
        for n in range(3):
            write_fits(tmp_path / "heap" / f"d{i}{n}.fits", {**DARK, "INSTRUME": CAMERA, **cold})
    for i, name in enumerate(FILTERS):
        told = {**OF_THE_RIG, "FILTER": name, "DATE-OBS": f"2026-10-18T2{i}:00:00"}
        write_fits(tmp_path / "heap" / f"l{i}.fits", {**LIGHT, **told, "OBJECT": "A panel of twelve " * 3})
        write_fits(tmp_path / "heap" / f"f{i}.fits", {**FLAT, **told})
    job = own.post("/api/folders", {"path": str(tmp_path / "heap")})["id"]
    own.until(lambda: own.job(job)["state"] == "done")
    for width in (1280, 390):
        page = browser.new_page(viewport={"width": width, "height": 800})
        if width == 390:
            page.add_init_script("localStorage.setItem('theme', 'night')")
        for place in ("tonight", "nights", "bench", "intake", "intake/mend", "rigs", "shelf"):
            page.goto(f"{own.url}/{place}")
            page.get_by_role("button", name="Rig: ").wait_for()
            page.wait_for_load_state("networkidle")
            assert page.evaluate("document.documentElement.scrollWidth") <= width, (place, width)
            assert page.evaluate(BEYOND) == [], (place, width)
            page.evaluate(AXE.read_text())
            assert page.evaluate(BARRED) == [], (place, width)
        page.locator("button[data-spine]").first.wait_for()
        room = page.evaluate(BETWEEN)
        assert len(room) == 5 and min(room) >= 0, (width, room)
        page.get_by_role("button", name="Flats", exact=True).click()
        page.get_by_role("rowheader", name="18 Oct").wait_for()
        cut = page.evaluate(CUT)
        assert len(cut) == len(FILTERS) and max(cut) <= 0, (width, cut)
        page.close()
