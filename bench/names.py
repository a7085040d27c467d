"""Proposing rigs from 20,000 headers, beside reading the headers that they are in."""

from __future__ import annotations

import random
import tempfile
import time
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
from astropy.io import fits

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.rigs.propose import Seen, propose
from grayshelf.core.rigs.trains import SeenTrain, new_trains
from grayshelf.library.catalog import read_file

HEADERS, READ = 20_000, 300
CAMERAS = (("Heron 26M", "HERON-26M", "heron 26m"), ("Kite 9C", "KITE9C"), ("Osprey",))
FILTERS = (
    ("L", "Lum", "Luminance"), ("R", "Red"), ("G", "Green", "Grün"), ("B", "blue"), ("Ha", "H-alpha", "Hα"), ("OIII", "O3", "O-III"),
    ("SII", "S2"), ("Hb", "H-beta"), ("Nebula", "nebula"), ("Dualband", "Dual Band"), ("City", "city filter"), ("NII", "N2"),
)  # fmt: skip


def headers() -> list[Seen]:
    """Of 3 cameras, 4 trains and 12 filters in some 30 spellings."""
    rng = random.Random(1)
    found = []
    for n in range(HEADERS):
        camera = CAMERAS[n % 3]
        mm = (530.0, 424.0)[n // 3 % 2] if n % 3 == 0 else 400.0 * (n % 3)
        telescope = rng.choice(("Alder", "ALDER"))
        name = rng.choice(FILTERS[n % len(FILTERS)])
        found.append(
            Seen(rng.choice(camera), telescope, name, FrameKind.LIGHT, mm + rng.uniform(-1, 1), 3.76)
        )
    return found


def main() -> None:
    """Seconds for each, and how much the proposing adds to the reading."""
    rows = headers()
    began = time.perf_counter()
    proposal = propose(rows)
    names = {j.spelled: j.name for j in proposal.joins}
    seen = [
        SeenTrain(names.get(r.camera, r.camera), r.telescope, FrameKind.LIGHT, r.focal_length_mm)
        for r in rows
    ]
    trains = new_trains(seen, [])
    proposing_s = time.perf_counter() - began
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "light.fits"
        header = fits.Header(
            {"IMAGETYP": "LIGHT", "INSTRUME": "Heron 26M", "TELESCOP": "Alder", "EXPTIME": 300.0}
        )
        fits.PrimaryHDU(np.zeros((8, 8), np.uint16), header).writeto(path)
        began = time.perf_counter()
        for _ in range(READ):
            read_file(path, ZoneInfo("UTC"))
        reading_s = (time.perf_counter() - began) / READ * HEADERS
    print(
        f"{HEADERS:,} headers: {len(proposal.joins)} spellings joined, {len(trains)} trains, in {proposing_s:.2f} s; reading "
        f"them takes {reading_s:.1f} s: {100 * proposing_s / reading_s:.1f} % more (limit 2 s)"
    )


if __name__ == "__main__":
    main()
