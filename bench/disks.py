"""What goes to and from disks: filing, copying with verification, packing, and scanning, each beside what it can be held
against in the same run."""

from __future__ import annotations

import subprocess
import tempfile
import time
import warnings
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from astropy.io import fits
from ccdproc import ImageFileCollection

from grayshelf.library.choosing import Choice
from grayshelf.library.filing import FiledBy, FilingWishes
from grayshelf.library.library import Library
from grayshelf.serving import open_context
from grayshelf.web.app import create_app
from grayshelf.work.filing import start_filing, start_taking_back
from grayshelf.work.letting_go import start_letting_go

FILED, FILED_LIMIT_S = 10_000, 60.0
SCANNED, CARDS = 5_000, 62
COPIED, COPIED_SIDE = 12, (3000, 4000)


class _Own:
    def __init__(self, root: Path) -> None:
        self.context = open_context(Library(root))
        self.client = create_app(self.context).test_client()

    def ended(self, job_id: int) -> str:
        """What a job came to."""
        while True:
            jobs = self.client.get("/api/jobs").json
            job = next(j for j in jobs["alive"] + jobs["ended"] if j["id"] == job_id)
            if job["state"] not in ("queued", "running"):
                return f"{job['state']}: {job['message']}"
            # A page is told by the server and does not ask so often: asking is not what is measured.
            time.sleep(0.1)

    def scan(self, folder: Path) -> float:
        """Seconds."""
        begun = time.perf_counter()
        self.ended(self.client.post("/api/folders", json={"path": str(folder)}).json["id"])
        return time.perf_counter() - begun

    def close(self) -> None:
        """Let it go."""
        self.context.runner.shut_down()
        self.context.library.close()


def _darks(folder: Path, count: int, shape: tuple[int, int], more: int = 0) -> None:
    rng, begun = np.random.default_rng(1), datetime(2026, 10, 1, 20, tzinfo=UTC)
    folder.mkdir(parents=True)
    header = fits.Header({"IMAGETYP": "Dark Frame", "INSTRUME": "Cam 7", "EXPTIME": 30.0, "GAIN": 100})
    header.update({"OFFSET": 30, "CCD-TEMP": -10.0, "SET-TEMP": -10.0})
    for number in range(more):
        header[f"KEY{number}"] = (number * 1.5, "of another program")
    pixels = rng.normal(500, 8, shape).astype(np.uint16)
    for number in range(count):
        header["DATE-OBS"] = (begun + timedelta(seconds=60 * number)).replace(tzinfo=None).isoformat()
        pixels[0, 0] = number
        fits.PrimaryHDU(pixels, header).writeto(folder / f"d{number:05d}.fits")


def _timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def _scanning(base: Path) -> None:
    _darks(base / "many", SCANNED, (8, 8), CARDS - 16)
    own = _Own(base / "scanned")
    _darks(base / "few", 20, (8, 8))
    own.scan(base / "few")
    ours = own.scan(base / "many")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        theirs = _timed(lambda: len(ImageFileCollection(base / "many", keywords="*").summary))
    print(
        f"scan of {SCANNED:,} files of {CARDS} cards, into the database: {ours:.1f} s, {theirs / ours:.1f} times as fast as "
        f"ImageFileCollection, which keeps nothing ({theirs:.1f} s)"
    )
    again = own.scan(base / "many")
    print(f"scan of the same, unchanged: {again:.2f} s")
    own.close()


def _filing(base: Path) -> None:
    _darks(base / "heap", FILED, (8, 8))
    own = _Own(base / "filed")
    own.scan(base / "heap")
    wishes = FilingWishes(str(base / "heap"), way=FiledBy.MOVE)
    begun = time.perf_counter()
    print(own.ended(start_filing(own.context.library, own.context.runner, Choice(), wishes, "all")))
    filed = time.perf_counter() - begun
    begun = time.perf_counter()
    own.ended(start_taking_back(own.context.library, own.context.runner, 1))
    back = time.perf_counter() - begun
    print(
        f"{FILED:,} frames filed by renaming in {filed:.1f} s (limit {FILED_LIMIT_S:.0f}), back in {back:.1f} s"
    )
    own.close()


def _copying(base: Path) -> None:
    _darks(base / "large", COPIED, COPIED_SIDE)
    own = _Own(base / "copied")
    own.scan(base / "large")
    command = (
        f"cp -r {base}/large {base}/plain && sync {base}/plain/* && sha256sum {base}/plain/* > /dev/null"
    )
    plain = _timed(lambda: subprocess.run(command, shell=True, check=True))
    wishes = FilingWishes(str(base / "out"), way=FiledBy.COPY)
    begun = time.perf_counter()
    own.ended(start_filing(own.context.library, own.context.runner, Choice(), wishes, "all"))
    ours = time.perf_counter() - begun
    print(
        f"{COPIED} files of 24 MB copied and verified: {plain / ours:.0%} of cp and sha256sum ({ours:.2f} s)"
    )
    ids = [i for n in own.client.get("/api/room").json["nights"] for i in n["set_ids"]]
    begun = time.perf_counter()
    print(own.ended(start_letting_go(own.context.library, own.context.runner, ids, FiledBy.PACK, "", "all")))
    packed = time.perf_counter() - begun

    def compressed() -> None:
        for path in (base / "large").glob("*.fits"):
            with fits.open(path) as hdus:
                fits.CompImageHDU(hdus[0].data, hdus[0].header).writeto(base / "theirs.fz", overwrite=True)

    theirs = _timed(compressed)
    print(
        f"packed, unpacked again and compared in {packed:.1f} s: {packed / theirs:.1f} times Astropy’s packing alone"
    )
    own.close()


def main() -> None:
    """All of it, in a folder of its own."""
    with tempfile.TemporaryDirectory() as folder:
        for work in (_scanning, _filing, _copying):
            work(Path(folder))
