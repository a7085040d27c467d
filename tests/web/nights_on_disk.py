"""A night of frames in a folder, and what a library makes of it."""

from __future__ import annotations

import numpy as np

from tests.helpers import DARK, FLAT, LIGHT, write_fits


def a_night(folder, n=8):
    """Lights, darks, flats and dark flats of one night, each with pixels of its own."""
    rng = np.random.default_rng(7)
    for i in range(n):
        at = {"DATE-OBS": f"2026-10-18T22:{i:02d}:00"}
        for name, cards, level, noise in (
            ("light", LIGHT, 700, 9), ("dark", DARK, 500, 6), ("flat", FLAT, 29_000, 90),
            ("darkflat", {**FLAT, "IMAGETYP": "Dark Flat"}, 500, 6),
        ):  # fmt: skip
            pixels = rng.normal(level, noise, (24, 24)).astype(np.uint16)
            write_fits(folder / name / f"{name}_{i}.fits", {**cards, **at}, pixels)
    return folder


def masters(own):
    return sorted(own.query("select id, master_set_id from frame_set where master_set_id is not null"))
