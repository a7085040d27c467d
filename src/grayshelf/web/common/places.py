"""A place on earth in words."""

from __future__ import annotations

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from grayshelf.core.frames.place import sun_offset
from grayshelf.library.place_told import PlaceTold
from grayshelf.web.common import in_words
from grayshelf.web.common.schemas import PlaceToldOut

#: Clocks of zones are up to three hours from the sun, summer time among it; common practice, with no source.
_CLOCKS_KEEP_TO = timedelta(hours=3.5)
_DAY = timedelta(days=1)


def degrees_in_words(latitude_deg: float, longitude_deg: float) -> str:
    """'33.5° S, 151° E'."""
    north, east = "N" if latitude_deg >= 0 else "S", "E" if longitude_deg >= 0 else "W"
    return f"{abs(latitude_deg):g}° {north}, {abs(longitude_deg):g}° {east}"


def told_out(told: PlaceTold | None, zone: ZoneInfo, now: datetime) -> PlaceToldOut | None:
    """What is said of a place that headers tell, and of a clock that is not the one of this place."""
    if told is None:
        return None
    by_clock = now.astimezone(zone).utcoffset() or timedelta()
    ahead = (sun_offset(told.longitude_deg) - by_clock + _DAY / 2) % _DAY - _DAY / 2
    clock = ""
    if abs(ahead) > _CLOCKS_KEEP_TO:
        hours = abs(round(ahead.total_seconds() / 3600.0))
        clock = f"; the sun there is {hours} h {'ahead of' if ahead > timedelta() else 'behind'} the clock of {zone.key}"
    return PlaceToldOut(
        latitude=told.latitude_deg,
        longitude=told.longitude_deg,
        text=f"The headers of the lights of {in_words.day(told.night)} say "
        f"{degrees_in_words(told.latitude_deg, told.longitude_deg)}{clock}.",
    )
