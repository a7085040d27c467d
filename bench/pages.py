"""How long until the first page can be used, and how fast a scan reads."""

from __future__ import annotations

import shutil
import tempfile
import time
from pathlib import Path

from playwright.sync_api import sync_playwright
from tests.helpers import DARK, write_fits
from tests.web.server import Server


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        server = Server(Path(folder) / "demo").start()
        try:
            with sync_playwright() as play:
                browser = play.chromium.launch(
                    executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"]
                )
                for place, wanted in (
                    ("/", "Done at"),
                    ("/shelf", "Darks"),
                    ("/nights", "Sunday"),
                    ("/intake", "frames read"),
                    ("/bench/flats", "Never looked for"),
                    ("/bench/flats?view=sky", "Dawn of"),
                ):
                    page = browser.new_page()
                    begun = time.perf_counter()
                    page.goto(server.url + place)
                    page.get_by_role("heading").filter(has_text=wanted).first.wait_for()
                    print(
                        f"{place:22} usable after {time.perf_counter() - begun:.2f} s (limit for the first page: 2 s)"
                    )
                    page.close()
                browser.close()
            many = Path(folder) / "many"
            first = write_fits(many / "0.fits", DARK)
            for i in range(1, 3000):
                shutil.copyfile(first, many / f"{i}.fits")
            begun = time.perf_counter()
            job = server.post("/api/folders", {"path": str(many)})["id"]
            server.until(lambda: server.job(job)["state"] == "done", 300)
            print(f"scan: {3000 / (time.perf_counter() - begun):.0f} files a second")
            sheet_grows(server)
        finally:
            server.kill()


def sheet_grows(server: Server) -> None:
    """The sheet of flat settings with ten and forty times as many rows: each row should cost what one costs."""
    per_row, there = {}, 0
    for gains in (2, 20, 80):
        for gain in range(there, gains):
            for code in ("L", "R", "G", "B", "Ha", "OIII", "SII"):
                row = {"filter_code": code, "gain": 5 * gain, "offset": 30, "binning": 2}
                server.post("/api/rigs/1/flats/add", row)
        there = gains
        times = []
        for _ in range(3):
            begun = time.perf_counter()
            rows = len(server.get("/api/rigs/1/flats")["rows"])
            times.append(time.perf_counter() - begun)
        per_row[gains] = min(times) / rows
        print(f"sheet of {rows} rows: {min(times):.2f} s, {1000 * per_row[gains]:.1f} ms a row")
    ratio = per_row[80] / per_row[2]
    print(f"a row of the largest sheet costs {ratio:.2f} times one of the smallest (limit 1.5)")
