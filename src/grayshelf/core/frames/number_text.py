"""Numbers that a header gives as text: with their unit, a decimal comma, as a fraction of a second, or as sides of a pixel.

The FITS standard wants plain numbers; common practice, no source, is that programs which copy what a camera says do not
always keep to it. What could mean two things is no number.
"""

from __future__ import annotations

import re

from grayshelf.core.frames.bounds import BOUNDS

_NUMBER = re.compile(
    r"([+\-−]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:e[+-]?\d+)?)\s*([a-zµ°]*(?: c)?)\.?", re.IGNORECASE
)
_FRACTION = re.compile(r"(\d{1,9})\s*/\s*(\d{1,9})\s*([a-z]*)\.?", re.IGNORECASE)
_SIDES = re.compile(r"(\d{1,2})(?:\s*[x×*]\s*|\s+)(\d{1,2})", re.IGNORECASE)
_ISO = re.compile(r"^iso[\s-]*", re.IGNORECASE)
#: One thousand two hundred, or one and a fifth.
_TWO_MEANINGS = re.compile(r"[+\-−]?[1-9]\d{0,2},\d{3}(?!\d)")
#: What may stand behind a number, and what it is times, by the unit of `BOUNDS`.
UNITS = {
    "s": {
        "s": 1.0,
        "sec": 1.0,
        "secs": 1.0,
        "second": 1.0,
        "seconds": 1.0,
        "ms": 0.001,
        "min": 60.0,
        "minutes": 60.0,
    },
    "°C": {"c": 1.0, "°c": 1.0, "degc": 1.0, "deg c": 1.0, "deg": 1.0, "°": 1.0},
    "mm": {"mm": 1.0},
    "µm": {"um": 1.0, "µm": 1.0, "micron": 1.0, "microns": 1.0},
    "°": {"deg": 1.0, "degrees": 1.0, "°": 1.0},
    "ADU": {"adu": 1.0},
}


def number_in_text(text: str, what: str) -> float | None:
    """The number that a text holds: '300 s', '-10,0', '1/60 s', '2x2'.

    Parameters
    ----------
    what
        A name of `BOUNDS`, which has the unit that is understood; a number without any is in that unit.

    Returns
    -------
    In the unit of `BOUNDS`; of '2x2' the first side. None where it is no number, has another unit or could be two.
    """
    text, unit = text.strip(), BOUNDS[what].unit.strip()
    times = {"": 1.0, **UNITS.get(unit, {})}
    if what == "binning" and (both := sides_in_text(text)) is not None:
        return float(both[0])
    if unit == "s" and (part := _FRACTION.fullmatch(text)) is not None:
        factor = times.get(part[3].lower())
        return None if factor is None or not int(part[2]) else factor * int(part[1]) / int(part[2])
    found = _NUMBER.fullmatch(_ISO.sub("", text) if what == "gain" else text)
    if found is None or _TWO_MEANINGS.match(text) or found[2].lower() not in times:
        return None
    return float(found[1].replace("−", "-").replace(",", ".")) * times[found[2].lower()]


def sides_in_text(text: str) -> tuple[int, int] | None:
    """Of '2x1': 2 and 1."""
    found = _SIDES.fullmatch(text.strip())
    return (int(found[1]), int(found[2])) if found is not None else None
