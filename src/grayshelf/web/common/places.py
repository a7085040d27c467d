"""A place on earth in words."""

from __future__ import annotations

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from grayshelf.core.frames.place import clock_off_h
from grayshelf.library.place_told import PlaceTold
from grayshelf.web.common import in_words
from grayshelf.web.common.schemas import PlaceToldOut


def degrees_in_words(latitude_deg: float, longitude_deg: float) -> str:
    """'33.5° S, 151° E'."""
    north, east = "N" if latitude_deg >= 0 else "S", "E" if longitude_deg >= 0 else "W"
    return f"{abs(latitude_deg):g}° {north}, {abs(longitude_deg):g}° {east}"


def told_out(told: PlaceTold | None, zone: ZoneInfo, now: datetime) -> PlaceToldOut | None:
    """What is said of a place that headers tell, and of a clock that is not the one of this place."""
    if told is None:
        return None
    off_h = clock_off_h(told.longitude_deg, now.astimezone(zone).utcoffset() or timedelta())
    clock = ""
    if off_h is not None:
        way = "ahead of" if off_h > 0 else "behind"
        clock = f"; the sun there is {abs(round(off_h))}{in_words.THIN}h {way} the clock of {zone.key}"
    return PlaceToldOut(
        latitude=told.latitude_deg,
        longitude=told.longitude_deg,
        text=f"The headers of the lights of {in_words.day(told.night)} say "
        f"{degrees_in_words(told.latitude_deg, told.longitude_deg)}{clock}.",
    )
