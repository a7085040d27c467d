"""Another program that shoots: its words in headers, its way of writing files, and a sensor behind it."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np

from tests.helpers import write_fits

#: Another program's words, none of them ours: no offset keyword of ours, another for the exposure, other kinds.
HEADER = {
    "CAMERA": "Kite 9", "INSTRUME": "Kite 9", "EXPOSURE": 120.0, "GAIN": 120, "BLKLEVEL": 25, "XBINNING": 1, "YBINNING": 1,
    "CCD-TEMP": -5.0, "SET-TEMP": -5.0, "TELESCOP": "Field lens", "FOCALLEN": 300.0,
}  # fmt: skip
PEDESTAL, RATE = 800.0, {"R": 21_000.0, "Ha": 2_730.0}


class Program:
    """Another program that shoots: what is dialled, and what the sensor then gives."""

    def __init__(self, folder) -> None:
        self.folder, self.number = folder, 0
        self.set = {"filter": "R", "focus": 5200, "angle": 40.0, "gain": 120, "temp": -5.0, "binning": 1}
        self.light = 1.0

    def shoot(self, kind, exposure_s, name=None, **changes):
        """Write one frame, under another name first, as programs do."""
        dial = {**self.set, **changes}
        self.number += 1
        now = datetime.now(UTC) + timedelta(milliseconds=self.number)
        cards = {
            **HEADER, "IMAGETYP": kind, "EXPOSURE": exposure_s, "GAIN": dial["gain"], "CCD-TEMP": dial["temp"],
            "XBINNING": dial["binning"], "YBINNING": dial["binning"], "DATE-OBS": now.isoformat()[:-6],
            **dial.get("cards", {}),
        }  # fmt: skip
        lit = kind in ("FLAT", "SkyFlat")
        if lit:
            cards |= {"FILTER": dial["filter"], "FOCUSPOS": dial["focus"], "ROTATOR": dial["angle"]}
        # A light of its own clock is on for a part of the exposure.
        seconds = dial.get("lit", exposure_s)
        level = PEDESTAL + (
            self.light * RATE.get(dial["filter"], 9000.0) * seconds if lit else dial.get("leak", 0)
        )
        rng = np.random.default_rng(self.number)
        pixels = np.clip(rng.normal(level, 8 + level**0.5 / 4, (60, 80)), 0, 65535).astype(np.uint16)
        path = self.folder / (name or f"shot_{self.number:04d}.fits")
        write_fits(path.with_suffix(".part"), cards, pixels)
        path.with_suffix(".part").rename(path)
        return path


#: As a third program writes the same gear.
SPELLED = {"CAMERA": "KITE-9", "INSTRUME": "KITE-9", "TELESCOP": "FIELD LENS"}


def write_lights(folder, spelled=None) -> None:
    """Lights of last evening in two filters, those in the second spelled by a program of their own."""
    last = datetime.now(UTC) - timedelta(hours=3)
    for code in ("R", "Ha"):
        for i in range(4):
            at = (last + timedelta(minutes=3 * i)).isoformat()[:-6]
            names = spelled if spelled and code == "Ha" else {}
            cards = {**HEADER, **names, "IMAGETYP": "LIGHT", "FILTER": code, "OBJECT": "M 33", "DATE-OBS": at}
            pixels = np.random.default_rng(i).normal(900, 9, (60, 80)).astype(np.uint16)
            write_fits(folder / f"{code}{i}.fits", {**cards, "FOCUSPOS": 5200, "ROTATOR": 40.0}, pixels)
