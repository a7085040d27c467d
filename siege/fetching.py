"""kill -9 at random moments of the one that fetches: nothing is lost, nothing comes twice, and in the end all is there, byte for
byte."""

from __future__ import annotations

import atexit
import hashlib
import random
import shutil
import time
from collections import Counter
from pathlib import Path

import numpy as np
from astropy.io import fits
from tests.web.server import OwnServer

from siege.handing import go_on
from siege.state import harm_of_database

KILLS, MOST_SECONDS = 50, 300
FRAMES, SIDE, WITHIN_S = 120, 900, 0.9


def _heap(folder: Path) -> None:
    rng = np.random.default_rng(6)
    folder.mkdir(parents=True)
    for i in range(FRAMES):
        cards = {"IMAGETYP": "Light Frame", "INSTRUME": "Cam 4", "EXPTIME": 60.0, "GAIN": 100, "OFFSET": 30,
                 "FILTER": "L", "DATE-OBS": f"2026-09-02T{20 + i // 60:02d}:{i % 60:02d}:00"}  # fmt: skip
        pixels = rng.normal(500, 6, (SIDE, SIDE)).astype(np.uint16)
        fits.PrimaryHDU(pixels, fits.Header(cards)).writeto(folder / f"d{i:03d}.fits")


def _there(library: Path) -> Counter[str]:
    """How often each content lies under its own name."""
    paths = (library / "frames" / "fetched").rglob("*.fits")
    return Counter(hashlib.sha256(p.read_bytes()).hexdigest() for p in paths)


def main(folder: Path, frames: Path) -> list[str]:
    """What was found to be harmed."""
    chance, harm, caught = random.Random(18), [], 0
    heap = folder / "giving" / "heap"
    shutil.rmtree(folder / "giving", ignore_errors=True)
    shutil.rmtree(folder / "fetching", ignore_errors=True)
    _heap(heap)
    contents = Counter(hashlib.sha256(p.read_bytes()).hexdigest() for p in heap.iterdir())
    giving, fetching = OwnServer(folder / "giving" / "library"), OwnServer(folder / "fetching" / "library")
    for server in (giving, fetching):
        server.folder.parent.mkdir(parents=True, exist_ok=True)
        atexit.register(lambda server=server: server.process and server.process.kill())
    giving.start()
    giving.post("/api/folders", {"path": str(heap)})
    giving.until(lambda: not giving.get("/api/jobs")["alive"], 120)
    fetching.start()
    giver = fetching.post("/api/fetching/givers", {"address": giving.url, "code": ""})["number"]
    ends, number = time.monotonic() + MOST_SECONDS, 0
    for number in range(KILLS):
        if time.monotonic() > ends:
            print(f"   stopped for want of time after {number} kills")
            break
        if not fetching.get("/api/jobs")["alive"]:
            if _there(fetching.folder) == contents:
                # All of it came: it begins anew, so that every kill finds something to do.
                fetching.kill()
                shutil.rmtree(folder / "fetching")
                fetching.folder.parent.mkdir()
                fetching.start()
                giver = fetching.post("/api/fetching/givers", {"address": giving.url, "code": ""})["number"]
            fetching.post("/api/fetching/fetch", {"giver": giver, "folder": None, "nights": None})
        go_on(fetching)
        time.sleep(chance.uniform(0.0, WITHIN_S))
        caught += any(j["state"] == "running" for j in fetching.get("/api/jobs")["alive"])
        fetching.kill()
        harm += harm_of_database(fetching.folder)
        wrong = [n for n in _there(fetching.folder).items() if n[0] not in contents or n[1] > 1]
        if wrong:
            harm.append(f"{len(wrong)} frames are doubled, or not what they were, at kill {number}")
            break
        fetching.start()
    for _ in range(10):
        go_on(fetching)
        fetching.until(
            lambda: not [j for j in fetching.get("/api/jobs")["alive"] if not j["can_resume"]], 300
        )
        if (
            fetching.post("/api/fetching/new", {"giver": giver, "folder": None, "nights": None})["frames"]
            == 0
        ):
            break
        fetching.post("/api/fetching/fetch", {"giver": giver, "folder": None, "nights": None})
    if _there(fetching.folder) != contents:
        harm.append("in the end it is not what it was there")
    fetching.kill()
    giving.kill()
    print(f"   {number + 1} kills, {caught} of them while frames came")
    return harm
