"""A date and time as headers write them: the form of the FITS Standard 4.0 (section 9.1), and what programs make of it."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from typing import NamedTuple

#: '2026-10-18T22:04:11.5', with other marks between the parts, digits left out, a zone behind. Common practice, no source.
_USUAL = re.compile(
    r"(?P<day>\d{4}([-/.])\d{1,2}\2\d{1,2})[T ]\s*(?P<hour>\d{1,2}):(?P<minute>\d{2})"
    r"(?::(?P<second>\d{1,2})(?:[.,](?P<part>\d*))?)?\s*(?P<zone>Z|UTC?|GMT|[+-]\d{2}:?\d{2})?",
    re.IGNORECASE,
)
#: Day 0 of the Modified Julian Date (FITS Standard 4.0, section 9.2.2).
_MJD_0 = datetime(1858, 11, 17)


class ClockReading(NamedTuple):
    """What a clock showed."""

    clock: datetime
    """Naive, of any year."""
    ahead: timedelta | None
    """Of UTC, where that stands behind it."""

    @property
    def utc(self) -> datetime:
        """The same in UTC, naive, where the clock was one of UTC or says how far it is ahead.

        Raises
        ------
        OverflowError
            Where no calendar has it.
        """
        return self.clock - (self.ahead or timedelta())


def clock_in_text(text: str) -> ClockReading | None:
    """A date and time; None where it is none.

    '2026-10-18 9:04:11' and '2026/10/18T22:04:60.0' are read; '18/10/26', whose day and year are told apart by habit
    alone, is not. A second 60 is the next minute's first, as clocks write it that round.
    """
    text = text.strip()
    try:
        parsed = datetime.fromisoformat(text.rstrip("Zz"))
    except ValueError:
        found = _USUAL.fullmatch(text)
        try:
            return None if found is None else _of_parts(found)
        except (ValueError, OverflowError):
            return None
    return ClockReading(parsed.replace(tzinfo=None), parsed.utcoffset())


def _of_parts(found: re.Match[str]) -> ClockReading:
    year, month, day = (int(part) for part in re.split("[-/.]", found["day"]))
    hour, minute, second = int(found["hour"]), int(found["minute"]), int(found["second"] or 0)
    if hour > 24 or minute > 59 or second > 60 or (hour == 24 and (minute or second)):
        raise ValueError(found[0])
    after_midnight = timedelta(hours=hour, minutes=minute, seconds=second + float(f"0.{found['part'] or 0}"))
    zone = found["zone"] or ""
    ahead = timedelta() if zone else None
    if zone[:1] in ("+", "-"):
        ahead = timedelta(hours=int(zone[1:3]), minutes=int(zone[-2:])) * (1 if zone[0] == "+" else -1)
    return ClockReading(datetime(year, month, day) + after_midnight, ahead)


def moment_of_mjd(days: float) -> datetime | None:
    """The date and time, naive and in UTC, of a Modified Julian Date, to the millisecond; None where no calendar has it."""
    try:
        exact = _MJD_0 + timedelta(days=days)
    except (OverflowError, ValueError):
        return None
    return exact.replace(microsecond=exact.microsecond // 1000 * 1000)
