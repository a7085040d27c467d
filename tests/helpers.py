"""Making frames for tests: FITS files with the header one wants, and frames of the simulated rig."""

from __future__ import annotations

from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any
from zlib import crc32

import numpy as np
from astropy.io import fits

from grayshelf.core.frames.fits_blocks import read_image_header
from grayshelf.core.frames.headers import read_facts
from grayshelf.core.frames.night import site_zone
from grayshelf.core.matching.model import CommonSettings

LONDON = site_zone("Europe/London")

DARK = {
    "IMAGETYP": "Dark Frame", "INSTRUME": "Dunlin M24", "EXPTIME": 300.0, "GAIN": 200, "OFFSET": 30,
    "XBINNING": 1, "YBINNING": 1, "CCD-TEMP": -10.0, "SET-TEMP": -10.0, "DATE-OBS": "2026-10-18T22:00:00",
}  # fmt: skip
LIGHT = {
    **DARK, "IMAGETYP": "Light Frame", "FILTER": "SII", "OBJECT": "NGC 6888", "TELESCOP": "Heron 92",
    "ROTATANG": 91.2, "FOCUSPOS": 12140,
}  # fmt: skip
FLAT = {**LIGHT, "IMAGETYP": "Flat Field", "EXPTIME": 6.5}


def write_fits(path: Path, cards: dict[str, Any], pixels: np.ndarray | None = None, size: int = 24) -> Path:
    """Write a 16-bit frame with these cards."""
    if pixels is None:
        rng = np.random.default_rng(crc32(path.name.encode()))
        pixels = rng.normal(500, 6, (size, size)).astype(np.uint16)
    path.parent.mkdir(parents=True, exist_ok=True)
    header = fits.Header()
    for name, value in cards.items():
        header[name] = value
    fits.PrimaryHDU(pixels, header).writeto(path, overwrite=True)
    return path


def facts_of(path: Path, zone=LONDON, folders=()):
    """What the application reads from a file, in folders of these names."""
    with path.open("rb") as stream:
        image = read_image_header(stream, path.stat().st_size)
    return read_facts(image, path.name, zone, folders=folders)


def settings(**changes: Any) -> CommonSettings:
    """The settings of a set of SII lights, with changes."""
    values: dict[str, Any] = {
        "camera": "Dunlin M24", "width": 100, "height": 80, "binning": (1, 1), "gain": 200.0, "offset": 30.0,
        "exposure_s": 300.0, "sensor_temp_c": -10.0, "held": True, "telescope": "Heron 92", "focal_length_mm": 506.0, "filter_code": "SII",
        "night": date(2026, 10, 18), "taken": datetime(2026, 10, 18, 23, tzinfo=UTC), "focus": 12140.0,
    }  # fmt: skip
    return CommonSettings(**(values | changes))


class ArraySource:
    """A frame in memory."""

    def __init__(self, pixels: np.ndarray, name: str = "frame") -> None:
        self.pixels, self.name = pixels, name
        self.height, self.width = pixels.shape

    def rows(self, first: int, last: int) -> np.ndarray:
        """Rows as float32."""
        return self.pixels[first:last].astype(np.float32)
