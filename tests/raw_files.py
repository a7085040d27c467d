"""Camera raw files made by the project: DNG (Adobe DNG Specification 1.4) with margins and an orientation, and TIFF."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import tifffile

PHASES = ("RGGB", "GRBG", "GBRG", "BGGR", "GGRGGBGGBGGRBRGRBGGGBGGRGGRGGBRBGBRG")
MARGIN = (4, 6)
"""Rows above and columns to the left that see no light."""


def write_dng(
    path: Path,
    pixels: np.ndarray,
    phase: str = "RGGB",
    orientation: int = 1,
    exposure_s: float = 120.0,
    iso: int = 800,
    local: str = "2026:10:18 22:04:11",
    lens: tuple[float, float] | None = None,
) -> np.ndarray:
    """Write a raw file whose visible part is `pixels`, through a lens of some mm at a stop; returns what lies in the file, margins
    included."""
    top, left = MARGIN
    whole = np.full((pixels.shape[0] + top, pixels.shape[1] + left), 77, np.uint16)
    whole[top:, left:] = pixels
    bottom, right = whole.shape
    side = math.isqrt(len(phase))
    tags = [
        (271, "s", 0, "Plover", True), (272, "s", 0, "Plover P6", True), (274, "H", 1, orientation, True),
        (306, "s", 0, local, True), (33421, "H", 2, (side, side), True),
        (33422, "B", side * side, tuple("RGB".index(letter) for letter in phase), True),
        (33434, "2I", 1, (int(exposure_s * 1000), 1000), True), (34855, "H", 1, iso, True),
        (50706, "B", 4, (1, 4, 0, 0), True), (50707, "B", 4, (1, 1, 0, 0), True), (50708, "s", 0, "Plover P6", True),
        (50714, "H", 1, 512, True), (50717, "I", 1, 16383, True),
        (50721, "2i", 9, (1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1), True),
        (50728, "2I", 3, (1, 1, 1, 1, 1, 1), True), (50778, "H", 1, 21, True), (50829, "I", 4, (top, left, bottom, right), True),
    ]  # fmt: skip
    if lens:
        tags += [
            (37386, "2I", 1, (int(lens[0] * 10), 10), True),
            (33437, "2I", 1, (int(lens[1] * 10), 10), True),
        ]
    path.parent.mkdir(parents=True, exist_ok=True)
    # Written as plain data and told to be a colour filter array afterwards.
    tifffile.imwrite(path, whole, photometric=32803, extratags=tags, metadata=None, software=None)
    return whole


def write_tiff(path: Path, pixels: np.ndarray, local: str = "2026:10:18 22:04:11", **more) -> None:
    """Write a 16-bit TIFF as a capture program would."""
    path.parent.mkdir(parents=True, exist_ok=True)
    tags = [(271, "s", 0, "Plover", True), (272, "s", 0, "Plover P6", True), (306, "s", 0, local, True)]
    tifffile.imwrite(
        path, pixels, photometric="minisblack", extratags=tags, metadata=None, software=None, **more
    )
