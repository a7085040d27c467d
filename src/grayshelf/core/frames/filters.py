"""Which filter a frame was taken through, by the names that programs have for it. Common practice, no source."""

from __future__ import annotations

import re

from grayshelf.core.frames.reader import HeaderReader

#: Names that stand for the same passband; everything else is kept as written.
FILTER_ALIASES = {
    "lum": "L",
    "luminance": "L",
    "clear": "L",
    "red": "R",
    "green": "G",
    "blue": "B",
    "h": "Ha",
    "ha": "Ha",
    "halpha": "Ha",
    "o3": "OIII",
    "oiii": "OIII",
    "s2": "SII",
    "sii": "SII",
}
#: Wheels that stand one behind the other, and what the one says that the light goes through as it came.
WHEELS = ("FILTER1", "FILTER2", "FILTER3")
EMPTY_PLACE = ("air", "blank", "clear", "empty", "n/a", "no filter", "none", "open", "unknown")


def normal_filter(name: str | None) -> str | None:
    """The code under which a filter is kept: usual long names shortened, blanks None, others as written."""
    if name is None or name.strip().lower() in ("", "-1", "none", "no filter", "unknown", "n/a"):
        return None
    plain = re.sub(r"[^a-z0-9]", "", name.lower())
    return FILTER_ALIASES.get(plain, name.strip())


def filter_name_in(reader: HeaderReader) -> str | None:
    """The filter's name; of several wheels in a row that of the one that is not empty, of several filters all."""
    told = reader.text("FILTER")
    if told is not None:
        return told
    wheels = [name for keyword in WHEELS if (name := reader.text(keyword)) is not None]
    through = [name for name in wheels if name.lower() not in EMPTY_PLACE]
    return "+".join(through) or next(iter(wheels), None) or reader.text("FILTNAME")
