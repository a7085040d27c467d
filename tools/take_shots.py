"""Take the pictures in docs/screenshots from a fresh demo: python tools/take_shots.py FOLDER"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright

PORT = 8471
URL = f"http://127.0.0.1:{PORT}"
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]


class Shots:
    """Takes pictures into a folder."""

    def __init__(self, browser: Browser, folder: Path) -> None:
        self.browser, self.folder = browser, folder

    def page(self, theme: str = "day", size: tuple[int, int] = (1280, 800)) -> Page:
        """A new page by day or night."""
        scheme = "dark" if theme == "night" else "light"
        return self.browser.new_page(viewport={"width": size[0], "height": size[1]}, color_scheme=scheme)

    def take(self, page: Page, name: str) -> None:
        """One picture, once everything on the page is there."""
        page.evaluate("document.fonts.ready")
        page.mouse.move(640, 790)
        page.wait_for_timeout(500)
        page.screenshot(path=str(self.folder / f"{name}.png"))
        print(name, flush=True)

    def visit(
        self, name: str, path: str, theme: str = "day", click: str = "", size: tuple[int, int] = (1280, 800)
    ) -> None:
        """Open a place and take its picture."""
        page = self.page(theme, size)
        page.goto(URL + path)
        page.get_by_role("heading", level=1).first.wait_for(state="attached")
        page.wait_for_timeout(900)
        if click:
            page.click(click)
            page.wait_for_timeout(700)
        self.take(page, name)
        page.close()


def standing(shots: Shots) -> None:
    """Places as they are before a run."""
    shots.visit("tonight", "/tonight")
    shots.visit("fill-night", "/tonight?fill=1", "night")
    before_the_night(shots)
    shots.visit("shelf", "/shelf")
    shots.visit("card", "/shelf?wall=flats", click='[data-spine][aria-label^="Flat R"]')
    shots.visit("intake", "/intake")
    mended_and_filed(shots)
    shots.visit("rigs", "/rigs")
    shots.visit("slip-care-night", "/nights/2026-10-18", "night", click='[data-set][aria-label*="OIII"]')


def before_the_night(shots: Shots) -> None:
    """Two plans side by side, in one of which the camera is turned."""
    page = shots.page()
    page.goto(URL + "/tonight?before=1")
    page.get_by_role("checkbox", name="the camera is turned").first.check()
    page.get_by_label("Where the flats go").first.select_option("before each turn of the camera")
    page.get_by_text("between targets").first.wait_for()
    shots.take(page, "before")
    page.close()


def mended_and_filed(shots: Shots) -> None:
    """What would be said of darks, and where all frames would go; neither is done."""
    page = shots.page()
    page.goto(URL + "/intake/mend")
    page.get_by_label("Kind").first.select_option("dark")
    page.get_by_label("A part of the name").fill("gain100")
    page.get_by_label("Offset", exact=True).fill("32")
    page.get_by_label("Read from their names, by a pattern").fill(
        "master_{kind}_{exposure}_gain{gain}_{temperature}_{night}"
    )
    page.get_by_role("button", name=re.compile("^Say it of")).wait_for()
    shots.take(page, "mend")
    page.close()
    with urllib.request.urlopen(URL + "/api/intake") as answer:
        folder = json.loads(answer.read())["folders"][0]["path"]
    page = shots.page("night")
    page.goto(URL + "/intake/file")
    page.get_by_label("The folder they are filed into").fill(folder)
    page.get_by_role("button", name=re.compile("^Move [0-9]")).wait_for(timeout=60_000)
    shots.take(page, "file-night")
    page.close()


def looked_at(shots: Shots) -> None:
    """Dust on a flat, as large as the window."""
    page = shots.page("night")
    page.goto(URL + "/shelf?wall=flats")
    page.locator('[data-spine][aria-label^="Flat Ha"]').first.click()
    # Told of once all other flats were looked at.
    page.get_by_text(re.compile("it turned as the camera")).first.wait_for(timeout=60_000)
    page.get_by_role("button", name="See them on the picture").click()
    page.get_by_role("slider", name="Level that is black").wait_for()
    page.wait_for_timeout(1500)
    shots.take(page, "dust-night")
    page.close()


def by_hand(shots: Shots) -> None:
    """A sheet that another program shoots, on a phone: what comes next, and a frame that is not it."""
    page = shots.page("night", (390, 844))
    page.goto(URL + "/tonight")
    page.get_by_role("button", name="Shoot it with another program instead").click()
    with tempfile.TemporaryDirectory(prefix="camera-") as watched:
        page.get_by_label("The folder that your program writes into").fill(watched)
        page.get_by_role("button", name=re.compile("yourself$")).click()
        page.get_by_text(re.compile("one test flat of")).first.wait_for(timeout=30_000)
        with urllib.request.urlopen(URL + "/api/state") as answer:
            frames = Path(json.loads(answer.read())["own_folder"]).parent / "frames"
        light = next(p for p in sorted(frames.rglob("*.fits")) if "ight" in p.name)
        (Path(watched) / "light_0001.fits").write_bytes(light.read_bytes())
        page.get_by_role("alert").wait_for(timeout=30_000)
        shots.take(page, "by-hand-phone-night")
        page.get_by_role("button", name="Stop here").click()
        page.get_by_role("button", name=re.compile("^Close it")).click()
        page.wait_for_timeout(1500)
    page.close()


def running(shots: Shots) -> None:
    """A run from its start to its end."""
    page = shots.page()
    page.goto(URL + "/tonight")
    page.get_by_role("button", name="Shoot 25 flats in 5 filters").click()
    pace = page.get_by_role("checkbox", name=re.compile("waits pass"))
    pace.click()
    page.wait_for_timeout(800)
    page.get_by_role("button", name="The panel is on: begin").click()
    page.get_by_role("img", name=re.compile("Level against exposure for SII, 1 shot")).wait_for(
        timeout=60_000
    )
    shots.take(page, "run-search")
    pace.click()
    page.get_by_role("button", name="It hangs: try L again").wait_for(timeout=120_000)
    page.get_by_role("button", name="It hangs: try L again").click()
    page.get_by_role("button", name="The cap is on: shoot what needs the dark").wait_for(timeout=60_000)
    phone = shots.page("night", (390, 844))
    phone.goto(URL + "/tonight")
    phone.get_by_role("button", name="The cap is on: shoot what needs the dark").wait_for()
    shots.take(phone, "run-gate-phone-night")
    page.get_by_role("button", name="The cap is on: shoot what needs the dark").click()
    page.get_by_role("button", name="Close the run").wait_for(timeout=240_000)
    page.close()
    phone.close()


def bench(shots: Shots) -> None:
    """Both exercises of the Bench, shot with the simulated rig."""
    page = shots.page()
    page.goto(URL + "/bench/offset?start")
    page.get_by_role("button", name=re.compile("Shoot about")).click()
    page.get_by_role("button", name="The cap is on").click()
    page.get_by_role("button", name=re.compile("Keep offset")).wait_for(timeout=240_000)
    page.get_by_role("button", name="gain 200").click()
    shots.take(page, "bench-offset")
    page.goto(URL + "/bench/gain?start")
    for gain in ("140", "160"):
        page.get_by_label("another gain").fill(gain)
        page.get_by_role("button", name="Add").click()
    page.get_by_role("button", name=re.compile("Shoot about")).click()
    page.get_by_role("button", name="The panel is before it").click()
    page.get_by_role("button", name=re.compile("Keep the values of 6 gains")).wait_for(timeout=400_000)
    page.get_by_role("button", name="gain 200", exact=True).click()
    shots.take(page, "bench-gain")
    page.close()


def flats(shots: Shots) -> None:
    """The sheet of flat settings: a whole rig found, a filter without answer, the sheet."""
    with urllib.request.urlopen(URL + "/api/rigs/1/flats") as answer:
        rows = json.loads(answer.read())["rows"]
    for item in (item for row in rows for item in row["history"]):
        back = f"{URL}/api/rigs/1/flats/settings/{item['id']}/take-back"
        urllib.request.urlopen(urllib.request.Request(back, b"{}", {"Content-Type": "application/json"}))
    page = shots.page()
    page.goto(URL + "/bench/flats")
    page.get_by_role("button", name="Find all 7 settings").click()
    page.get_by_role("button", name="It is there: begin").click()
    page.get_by_role("button", name="Neutral film hangs: try again").wait_for(timeout=120_000)
    page.get_by_role("button", name="Leave L out").click()
    page.get_by_role("button", name="Find all 7 settings").wait_for(timeout=60_000)
    shots.visit("flats-sheet", "/bench/flats?view=sheet")
    page.close()


def twilight(shots: Shots) -> None:
    """A dawn that is being shot, on a clock whose waits pass faster still."""
    page = shots.page("night")
    page.goto(URL + "/bench/flats?view=sky")
    page.get_by_label("Flats of each filter").fill("12")
    page.get_by_role("button", name="Shoot these 84 flats").click()
    page.get_by_role("button", name="It stands there: wait for the sky").click()
    page.get_by_role("heading", name=re.compile(r": [34]\d of 84 flats")).wait_for(timeout=300_000)
    shots.take(page, "twilight-night")
    page.close()


def main(folder: Path) -> None:
    """Take all of them."""
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as temporary:
        home = Path(temporary) / "library"
        demo = [
            sys.executable,
            "-m",
            "grayshelf.cli",
            "demo",
            "--folder",
            f"{temporary}/demo",
            "--port",
            str(PORT),
        ]
        own = [
            sys.executable,
            "-m",
            "grayshelf.cli",
            "serve",
            "--new",
            "--library",
            str(home),
            "--port",
            str(PORT),
        ]
        for command, parts in (
            (own, (lambda s: s.visit("empty", "/"),)),
            (demo, (standing, looked_at, by_hand, running, bench, flats)),
            ([*demo, "--rate", "600"], (twilight,)),
        ):
            server = subprocess.Popen(command, stdout=subprocess.DEVNULL, env=os.environ)
            try:
                _wait()
                with sync_playwright() as play:
                    browser = play.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
                    for part in parts:
                        part(Shots(browser, folder))
                    browser.close()
            finally:
                server.terminate()
                server.wait()


def _wait() -> None:
    for _ in range(600):
        try:
            urllib.request.urlopen(URL + "/api/state", timeout=2)
            return
        except OSError:
            time.sleep(0.2)
    raise SystemExit("the server did not start")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
