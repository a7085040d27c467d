"""The pattern of a colour sensor's filters, as programs write it: 'RGGB', 'BayerRG8', 'rg1g2b', or the 36 letters of one that
repeats after six pixels. Common practice, no source."""

from __future__ import annotations

import re

from grayshelf.core.pictures.colours import LETTERS, OF_SIX, shifted

#: The first row of two stands for both.
_BY_FIRST_ROW = {"RG": "RGGB", "GR": "GRBG", "GB": "GBRG", "BG": "BGGR"}
PATTERNS = tuple(_BY_FIRST_ROW.values())
_NO_COLOUR = ("", "FALSE", "MONO", "MONOCHROME", "NA", "NO", "NONE", "UNKNOWN")


def pattern_in_text(text: str, x_offset: int = 0, y_offset: int = 0) -> str | None:
    """The letters of the upper left pixels, four or 36, row by row; None where a sensor is said to be of one colour.

    Parameters
    ----------
    x_offset, y_offset
        How many pixels the picture begins to the right of the pattern, and below it.

    Returns
    -------
    What is no pattern as it is written, in capitals.
    """
    letters = re.sub(r"[^A-Z]", "", text.upper()).removeprefix("BAYER")
    if letters in _NO_COLOUR:
        return None
    pattern = _BY_FIRST_ROW.get(letters, letters)
    if len(pattern) not in (4, OF_SIX) or not LETTERS.issuperset(pattern):
        return text.upper()
    return shifted(pattern, x_offset, y_offset)
