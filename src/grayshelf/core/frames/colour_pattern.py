"""The pattern of a colour sensor's filters, as programs write it: 'RGGB', 'BayerRG8', 'rg1g2b'. Common practice, no source."""

from __future__ import annotations

import re

#: The first row of two stands for both.
_BY_FIRST_ROW = {"RG": "RGGB", "GR": "GRBG", "GB": "GBRG", "BG": "BGGR"}
PATTERNS = tuple(_BY_FIRST_ROW.values())
_NO_COLOUR = ("", "FALSE", "MONO", "MONOCHROME", "NA", "NO", "NONE", "UNKNOWN")


def pattern_in_text(text: str, x_offset: int = 0, y_offset: int = 0) -> str | None:
    """The four letters of the upper left pixels, row by row; None where a sensor is said to be of one colour.

    Parameters
    ----------
    x_offset, y_offset
        How many pixels the picture begins to the right of the pattern, and below it.

    Returns
    -------
    A pattern that is none of four pixels as it is written, in capitals.
    """
    letters = re.sub(r"[^A-Z]", "", text.upper()).removeprefix("BAYER")
    if letters in _NO_COLOUR:
        return None
    pattern = _BY_FIRST_ROW.get(letters, letters)
    if len(pattern) != 4 or not set(pattern) <= set("RGBCMYWE"):
        return text.upper()
    return "".join(pattern[(y + y_offset) % 2 * 2 + (x + x_offset) % 2] for y in (0, 1) for x in (0, 1))
