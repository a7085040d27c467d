"""When an exposure began, and its night, by the clocks and the place that a header tells.

DATE-OBS, MJD-OBS: FITS Standard 4.0, sections 9.1 and 9.2. DATE-LOC, SITELONG and the rest: practice, with no source.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

from grayshelf.core.frames.clock_text import ClockReading, clock_in_text, moment_of_mjd
from grayshelf.core.frames.night import HEADER_PLACE, LOCAL_CLOCK, night_of_local, site_night
from grayshelf.core.frames.place import place_in, sun_offset
from grayshelf.core.frames.reader import HeaderReader, number_of

UTC_TIME = ("DATE-OBS", "DATE-BEG")
LOCAL_TIME = ("DATE-LOC", "DATE-LCL", "LOCALTIM")
#: The Julian Date itself: the Modified one is counted from 2,400,000.5 (FITS Standard 4.0, section 9.3).
JULIAN, JD_OF_MJD_0 = ("JD-OBS", "JD"), 2_400_000.5
#: A clock that says another year was never set: it gives no night.
EARLIEST_YEAR, LATEST_YEAR = 1980, 2150
#: Local clocks on earth lie between these hours of UTC, give or take a clock that is a little off.
AHEAD_OF_UTC_H = (-12.5, 14.5)


def _clock_time(reader: HeaderReader, name: str, text: str | None) -> ClockReading | None:
    """A date and time from a clock that was set; else a complaint."""
    if text is None:
        return None
    if _is_a_day(text):
        reader.complaints.append(f"{name} is '{text}', a day without a time")
        return None
    told = clock_in_text(text)
    if told is None:
        reader.complaints.append(f"{name} is '{text}', which is not a date and time")
    return told if told is not None and _is_set(reader, name, told.clock) else None


def _is_set(reader: HeaderReader, name: str, clock: datetime) -> bool:
    """Whether a clock was set; else a complaint."""
    if EARLIEST_YEAR <= clock.year <= LATEST_YEAR:
        return True
    reader.complaints.append(f"{name} is in the year {clock.year}: the clock was not set")
    return False


@dataclass(frozen=True)
class FrameTime:
    """When an exposure began, its night, and how the night was found."""

    utc: datetime | None = None
    night: date | None = None
    night_from: str = ""
    ahead_h: float | None = None
    """How far the header's own clock or place is ahead of UTC."""


def moment_of(reader: HeaderReader, zone: ZoneInfo) -> FrameTime:
    """The night by the local clock where a header has it, else by UTC and the place: the header's, else the site's."""
    utc_keyword, naive = _utc_told(reader)
    local_keyword, text = _first_text(reader, LOCAL_TIME)
    told = _clock_time(reader, local_keyword, text)
    local = None if told is None else told.clock
    if naive is None and told is not None and told.ahead is not None:
        naive = told.utc
    place_told = place_in(reader)
    longitude = None if place_told is None else place_told.longitude_deg
    utc = None if naive is None else naive.replace(tzinfo=UTC)
    if local is not None:
        ahead = None if naive is None else (local - naive).total_seconds() / 3600.0
        if ahead is None or AHEAD_OF_UTC_H[0] <= ahead <= AHEAD_OF_UTC_H[1]:
            if utc is None:
                place = zone.utcoffset(local) if longitude is None else sun_offset(longitude)
                utc = (local - (place or timedelta())).replace(tzinfo=UTC)
            ahead_h = (local - utc.replace(tzinfo=None)).total_seconds() / 3600.0
            return FrameTime(
                utc, night_of_local(local), f"{local_keyword} ({LOCAL_CLOCK})", round(ahead_h, 4)
            )
        reader.complaints.append(
            f"{local_keyword} is {ahead:+.0f} h from {utc_keyword}, which no place on earth is: it was passed over"
        )
    if utc is None:
        return FrameTime()
    if longitude is not None:
        night = night_of_local((utc + sun_offset(longitude)).replace(tzinfo=None))
        degrees = f"{longitude:.1f}°".replace("-", "−")
        ahead_h = round(sun_offset(longitude).total_seconds() / 3600.0, 4)
        return FrameTime(utc, night, f"{utc_keyword} (UTC) and {HEADER_PLACE}, longitude {degrees}", ahead_h)
    return FrameTime(utc, *site_night(utc, zone, utc_keyword))


def _first_text(reader: HeaderReader, names: tuple[str, ...]) -> tuple[str, str | None]:
    """The keyword that says something, and what; the first of them where none does."""
    found = reader.value(names)
    return (names[0], None) if found is None else (found[0], reader.text(found[0]))


def _utc_told(reader: HeaderReader) -> tuple[str, datetime | None]:
    """The moment in UTC, naive, and by which keyword: by DATE-OBS, with its time beside it where it is a day alone, else
    by MJD-OBS or the Julian Date."""
    keyword, text = _first_text(reader, UTC_TIME)
    if text is not None and _is_a_day(text):
        clock = reader.text("TIME-OBS", "UT", "UTC", "UTSTART", "UT-START", "UTC-OBS")
        if clock is not None:
            # It may have the day in it.
            text = clock if re.match(r"\d{4}\D", clock) else f"{text}T{clock}"
    if text is None or _is_a_day(text):
        by_days = _of_mjd(reader)
        if by_days is not None:
            return by_days
    told = _clock_time(reader, keyword, text)
    return keyword, None if told is None else told.utc


def _of_mjd(reader: HeaderReader) -> tuple[str, datetime] | None:
    found = reader.value(("MJD-OBS", "MJD-BEG", *JULIAN))
    days = None if found is None else number_of(found[1], "")
    if found is not None and days is not None and found[0] in JULIAN:
        days -= JD_OF_MJD_0
    moment = None if days is None else moment_of_mjd(days)
    if found is None or moment is None or not _is_set(reader, found[0], moment):
        return None
    return found[0], moment


def _is_a_day(text: str) -> bool:
    """Whether a text is a day without a time."""
    return "T" not in text and ":" not in text and any(c.isdigit() for c in text)
