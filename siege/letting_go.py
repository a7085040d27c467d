"""kill -9 at random moments while raw frames are packed, thrown away and brought back: each is there in some form at every
moment, and in the end the tree is as it was, byte for byte."""

from __future__ import annotations

import hashlib
import random
import shutil
import time
from pathlib import Path
from urllib.error import HTTPError

import numpy as np
from astropy.io import fits

from grayshelf.library.packing import NotPacked, unpacked
from siege.handing import go_on
from siege.state import demo, harm_of_database

KILLS = 100
MOST_SECONDS = 420
FRAMES, WITHIN_S = 240, 1.5


def heap_of_darks(folder: Path, count: int = FRAMES, shape: tuple[int, int] = (160, 160)) -> None:
    """Darks of one set."""
    rng = np.random.default_rng(5)
    folder.mkdir(parents=True)
    for i in range(count):
        cards = {"IMAGETYP": "Dark Frame", "INSTRUME": "Cam 3", "EXPTIME": 60.0, "GAIN": 100, "OFFSET": 30,
                 "CCD-TEMP": -10.0, "DATE-OBS": f"2026-09-01T{20 + i // 60:02d}:{i % 60:02d}:00"}  # fmt: skip
        pixels = rng.normal(500, 6, shape).astype(np.uint16)
        fits.PrimaryHDU(pixels, fits.Header(cards)).writeto(folder / f"d{i:03d}.fits")


def _forms(folder: Path) -> set[str]:
    """The hashes of what is there, whatever form it has."""
    found = set()
    for path in folder.rglob("*.f*"):
        if path.name.endswith(".fits"):
            found.add(hashlib.sha256(path.read_bytes()).hexdigest())
        elif path.name.endswith(".fz"):
            try:
                found.add(hashlib.sha256(unpacked(path)).hexdigest())
            except NotPacked:
                continue
    return found


def main(folder: Path, frames: Path) -> list[str]:
    """What was found to be harmed."""
    chance, harm, caught = random.Random(17), [], 0
    heap = folder / "raw"
    shutil.rmtree(heap, ignore_errors=True)
    heap_of_darks(heap)
    names = {p.relative_to(heap).as_posix(): p.read_bytes() for p in heap.rglob("*.fits")}
    contents = {hashlib.sha256(data).hexdigest() for data in names.values()}
    server = demo(folder, frames).start()
    server.post("/api/folders", {"path": str(heap)})
    server.until(lambda: not server.get("/api/jobs")["alive"], 300)
    server.post("/api/builds", {"set_ids": None})
    server.until(lambda: not server.get("/api/jobs")["alive"], 300)
    ends, number = time.monotonic() + MOST_SECONDS, 0
    for number in range(KILLS):
        if time.monotonic() > ends:
            print(f"   stopped for want of time after {number} kills")
            break
        if not server.get("/api/jobs")["alive"]:
            page = server.get("/api/room")
            last = next((f for f in page["filed"] if f["can_take_back"]), None)
            ids = [i for n in page["nights"] if n["night"] == "1 Sep 26" for i in n["set_ids"]]
            if last is not None and (not ids or chance.random() < 0.6):
                server.post(f"/api/filing/{last['id']}/take-back")
            else:
                # Packed frames are thrown away, too: what is on top comes back first.
                way = "throw" if last is not None else chance.choice(["pack", "throw"])
                try:
                    server.post("/api/room/let-go", {"set_ids": ids, "way": way})
                except HTTPError as refused:
                    # What is packed already, for instance: it is told, and the next moment is tried.
                    print(f"   {way}: {refused.read()[:200]!r}")
        go_on(server)
        time.sleep(chance.uniform(0.0, WITHIN_S))
        caught += any(j["state"] == "running" for j in server.get("/api/jobs")["alive"])
        server.kill()
        harm += harm_of_database(server.folder / "library")
        lost = contents - _forms(heap)
        if lost:
            harm.append(f"{len(lost)} frames were lost at kill {number}")
            break
        server.start()
    go_on(server)
    server.until(lambda: not [j for j in server.get("/api/jobs")["alive"] if not j["can_resume"]], 300)
    for one in server.get("/api/room")["filed"]:
        if one["can_take_back"]:
            server.post(f"/api/filing/{one['id']}/take-back")
            server.until(lambda: not server.get("/api/jobs")["alive"], 300)
    now = {p.relative_to(heap).as_posix(): p.read_bytes() for p in heap.rglob("*") if p.is_file()}
    if now != names:
        harm.append(f"{len(set(names) ^ set(now))} names are not as they were")
    told = server.get("/api/room")["nights"]
    if not any(n["night"] == "1 Sep 26" and n["n_frames"] == FRAMES and not n["kept_for"] for n in told):
        harm.append("the set does not have its frames and its master")
    server.kill()
    print(f"   {number + 1} kills, {caught} of them while files were worked at")
    return harm
