"""kill -9 at random moments while files are dropped onto the page: each is there whole in the end, once, and over no other file."""

from __future__ import annotations

import hashlib
import random
import threading
import time
from pathlib import Path

import httpx
import numpy as np
from astropy.io import fits

from grayshelf.library.arriving import ARRIVING, PIECE_BYTES
from siege.state import demo, harm_done

KILLS, MOST_SECONDS = 100, 420
FILES, WITHIN_S = 50, 0.6
#: As over a slow network: pieces of so many bytes, so far apart in seconds, so that a kill meets most of them.
PIECE, APART_S = 300_000, 0.04


def _heap(folder: Path) -> dict[str, bytes]:
    """Darks of six pieces each, and what each holds."""
    rng, folder_of = np.random.default_rng(9), {}
    folder.mkdir(parents=True)
    for i in range(FILES):
        cards = {"IMAGETYP": "Dark Frame", "INSTRUME": "Cam 5", "EXPTIME": 90.0, "GAIN": 100, "OFFSET": 30,
                 "CCD-TEMP": -10.0, "DATE-OBS": f"2026-09-04T20:{i:02d}:00"}  # fmt: skip
        pixels = rng.normal(500, 6, (1300, 1800)).astype(np.uint16)
        path = folder / f"d{i:03d}.fits"
        fits.PrimaryHDU(pixels, fits.Header(cards)).writeto(path)
        folder_of[f"dropped/night {i % 3}/{path.name}"] = path.read_bytes()
    return folder_of


class _Page(threading.Thread):
    """A page that sends its files, as often as the server goes away; each file until it is whole."""

    def __init__(self, url: str, into: Path, files: dict[str, bytes]) -> None:
        super().__init__(daemon=True)
        self.url, self.into, self.files = url, into, files
        self.sent, self.harm = 0, list[str]()

    def run(self) -> None:
        for name, data in self.files.items():
            while not self._one(name, data):
                time.sleep(0.1)
            self.sent += 1

    def _one(self, name: str, data: bytes) -> bool:
        told = {"path": name, "size_bytes": len(data), "modified_ms": 1_756_000_000_000}
        try:
            with httpx.Client(base_url=self.url, trust_env=False, timeout=20) as client:
                begun = client.post("/api/sending", json={"into": str(self.into), "files": [told]})
                here = begun.json()["files"][0]["received"]
                while here < len(data):
                    piece = client.put(
                        "/api/sending/piece",
                        params={"into": str(self.into), "offset": here, **told},
                        content=data[here : here + PIECE],
                        headers={"Content-Type": "application/octet-stream"},
                    )
                    here = piece.json()["received"]
                    time.sleep(APART_S)
                pieces = [
                    hashlib.sha256(data[i : i + PIECE_BYTES]).digest()
                    for i in range(0, len(data), PIECE_BYTES)
                ]
                digest = hashlib.sha256(b"".join(pieces)).hexdigest()
                whole = client.post(
                    "/api/sending/whole", json={"into": str(self.into), "file": told, "digest": digest}
                )
                if whole.status_code not in (200, 409):
                    self.harm.append(f"{name}: {whole.status_code} {whole.text[:200]}")
                return whole.status_code == 200
        except (httpx.HTTPError, KeyError, ValueError):
            # The server was killed: it is asked what it has when it is back.
            return False


def main(folder: Path, frames: Path) -> list[str]:
    """What was found to be harmed."""
    chance, harm, caught = random.Random(23), [], 0
    files, into = _heap(folder / "own"), folder / "in"
    # A name that is taken already, by another file.
    taken = into / next(iter(files))
    taken.parent.mkdir(parents=True)
    taken.write_bytes(b"mine")
    server = demo(folder, frames).start()
    server.post("/api/folders", {"path": str(into)})
    server.until(lambda: not server.get("/api/jobs")["alive"], 120)
    wanted = dict(list(files.items())[1:])
    page = _Page(server.url, into, wanted)
    page.start()
    ends, number = time.monotonic() + MOST_SECONDS, 0
    for number in range(KILLS):
        if time.monotonic() > ends or not page.is_alive():
            break
        time.sleep(chance.uniform(0.0, WITHIN_S))
        caught += page.is_alive()
        server.kill()
        for path in into.rglob("*.fits"):
            name = path.relative_to(into).as_posix()
            if ARRIVING not in name and path != taken and path.read_bytes() != files[name]:
                harm.append(f"{name} has its name and is not whole, at kill {number}")
        server.start()
    page.join(180)
    if page.is_alive():
        harm.append(f"only {page.sent} of {len(wanted)} files came")
    harm += page.harm
    refused = _Page(server.url, into, {})._one(*next(iter(files.items())))
    if refused or taken.read_bytes() != b"mine":
        harm.append("a file was written over another")
    there = {p.relative_to(into).as_posix() for p in into.rglob("*") if p.is_file() and p != taken}
    left = {name for name in there if ARRIVING not in name}
    harm += [f"left: {name}" for name in left ^ set(wanted)]
    server.post("/api/sending/scan", {"into": str(into)})
    server.until(lambda: not server.get("/api/jobs")["alive"], 120)
    harm += harm_done(server.folder / "library")
    server.kill()
    print(f"   {number + 1} kills, {caught} of them while {len(wanted)} files of 4.7 MB came")
    return harm
