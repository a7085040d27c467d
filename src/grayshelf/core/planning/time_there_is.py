"""How long the rig may work: until a time by the clock, for some hours, or as long as a battery lasts."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime, time, timedelta
from zoneinfo import ZoneInfo

from grayshelf.core.errors import GrayShelfError

#: Nobody leaves a rig to itself for longer.
MOST_HOURS = 72.0


@dataclass(frozen=True)
class TimeThereIs:
    """An end, and what sets it."""

    end: datetime
    """UTC."""
    set_by: str
    """'05:30', '3 hours', 'the battery: 500 Wh at 40 W'."""

    def seconds_from(self, now: datetime) -> float:
        """What is left of it."""
        return max((self.end - now).total_seconds(), 0.0)


def time_there_is(
    now: datetime,
    zone: ZoneInfo,
    until: str | None = None,
    hours: float | None = None,
    battery_wh: float | None = None,
    watts: float | None = None,
) -> TimeThereIs:
    """The earliest of the ends that are given; three hours where none is.

    Parameters
    ----------
    until
        A time by the clock of the site, '05:30': the next one.

    Raises
    ------
    GrayShelfError
        Where one of them cannot be, or lies before now.
    """
    ends = []
    if until:
        ends.append(TimeThereIs(_next(now, zone, until), clock_in(until).strftime("%H:%M")))
    if hours is not None:
        if not 0.0 < hours <= MOST_HOURS:
            raise GrayShelfError(f"Give it more than no time and at most {MOST_HOURS:g} hours.")
        ends.append(TimeThereIs(now + timedelta(hours=hours), f"{hours:g} hour{'s' if hours != 1 else ''}"))
    if battery_wh is not None or watts is not None:
        if battery_wh is None or watts is None or not 0.0 < battery_wh <= 1e5 or not 0.0 < watts <= 1e4:
            raise GrayShelfError(
                "How long a battery lasts follows from what it holds, in Wh, and what the rig draws, in W.",
                "Give both, above zero.",
            )
        lasts = min(battery_wh / watts, MOST_HOURS)
        ends.append(
            TimeThereIs(now + timedelta(hours=lasts), f"the battery: {battery_wh:g} Wh at {watts:g} W")
        )
    if not ends:
        return TimeThereIs(now + timedelta(hours=3.0), "3 hours")
    return min(ends, key=lambda one: one.end)


#: '05:30', '5.30', '5h30', '0530', '5:30 am', '5 pm'; a number of one or two digits alone may be anything.
_CLOCK = re.compile(
    r"(?P<hours>\d{1,2})(?:\s*[:.h]\s*(?P<minutes>\d\d)(?::\d\d)?|(?P<close>\d\d)|(?=\s*[ap]))"
    r"(?:\s*(?P<half>[ap])\.?m\.?)?",
    re.IGNORECASE,
)


def clock_in(text: str) -> time:
    """A time by the clock as people write it: '05:30', '5.30', '0530', '5:30 pm'.

    Raises
    ------
    GrayShelfError
    """
    found = _CLOCK.fullmatch(text.strip())
    if found is not None:
        hours, minutes = int(found["hours"]), int(found["minutes"] or found["close"] or 0)
        half = (found["half"] or "").lower()
        if half and 1 <= hours <= 12:
            hours = hours % 12 + (12 if half == "p" else 0)
            half = ""
        if not half and minutes < 60 and (hours < 24 or (hours, minutes) == (24, 0)):
            return time(hours % 24, minutes)
    raise GrayShelfError(f"‘{text}’ is no time by the clock.", "Write it like 05:30.")


def _next(now: datetime, zone: ZoneInfo, until: str) -> datetime:
    """The next time that a clock at the site shows this."""
    local, clock = now.astimezone(zone), clock_in(until)
    end = local.replace(hour=clock.hour, minute=clock.minute, second=0, microsecond=0, fold=0)
    if end <= local:
        end = datetime.combine(end.date() + timedelta(days=1), clock, zone)
    return end.astimezone(now.tzinfo)
