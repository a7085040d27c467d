"""Where on earth a frame says that it was taken."""

from __future__ import annotations

import math
import re
from datetime import timedelta

#: One hour of the sun's time for so many degrees of longitude.
DEGREES_AN_HOUR = 15.0


def degrees_of(value: object) -> float | None:
    """Degrees from a header: a number, or '-104 49 21.6', '+51:28:38', '0d57m00s W'; None where it is neither.

    West and south are negative, also where a letter says so.
    """
    if isinstance(value, bool):
        return None
    if isinstance(value, (int, float)):
        return float(value) if math.isfinite(value) else None
    text = str(value).strip()
    # A letter may stand before it as well as behind.
    text = re.sub(r"^([NSEWnsew])\s*(?=\d)(.*\d)\D?$", r"\2 \1", text)
    parts = re.fullmatch(
        r"([+\-−]?)\s*(\d+(?:\.\d+)?)(?:[\s:dD°]+(\d+(?:\.\d+)?))?(?:[\s:mM'′]+(\d+(?:\.\d+)?))?"
        # A small s is of the seconds, a capital one is south.
        r"(?:\s*[s\"″])?[\s:]*([NSEWnsew]?)",
        text,
    )
    if parts is None:
        return None
    sign, degrees, minutes, seconds, side = parts.groups()
    total = float(degrees) + float(minutes or 0) / 60.0 + float(seconds or 0) / 3600.0
    negative = sign in ("-", "−") or side.upper() in ("W", "S")
    return -total if negative else total


def sun_offset(longitude_deg: float) -> timedelta:
    """How far the mean sun's time at a longitude (east positive) is ahead of UTC."""
    return timedelta(hours=longitude_deg / DEGREES_AN_HOUR)
